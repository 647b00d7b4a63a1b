//! An opened harbor: its layout, its settings and its inventory, handed to everything that loads or carries out.

use std::path::Path;

use brightharbor_core::harbor::{Layout, Settings};

use crate::store::{Store, StoreError};

pub struct Harbor {
    pub layout: Layout,
    pub settings: Settings,
    pub store: Store,
}

impl Harbor {
    /// Opens the inventory of the harbor at `root`; the settings have been read before.
    pub fn open(root: &Path, mut settings: Settings) -> Result<Self, StoreError> {
        let layout = Layout::new(root);
        let store = Store::open(&layout.inventory())?;
        // Sets made by commands stand beside those of harbor.toml, which come first.
        for (name, set) in store.nameserver_sets()? {
            settings.nameserver_sets.entry(name).or_insert(set);
        }
        Ok(Self { layout, settings, store })
    }
}
