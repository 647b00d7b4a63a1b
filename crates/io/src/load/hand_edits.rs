//! Zone files that somebody has edited by hand since they were loaded from here. What the server answers is not asked:
//! `zone load` does that.

use std::collections::HashMap;

use brightharbor_core::change::content_hash;
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Zone, ZoneHome};

use super::LoadError;
use crate::harbor::Harbor;
use crate::install::read_if_there;

/// What was last loaded of each zone.
#[derive(Debug, Clone)]
pub struct LoadedFiles(HashMap<Hostname, String>);

impl LoadedFiles {
    /// Whether the file is another one now. Of a zone that was not loaded by this version yet, nobody knows.
    pub fn differ(&self, zone: &Hostname, file: Option<&[u8]>) -> bool {
        let Some(loaded) = self.0.get(zone) else { return false };
        file.is_none_or(|content| content_hash(content) != *loaded)
    }
}

pub fn loaded_files(harbor: &Harbor) -> Result<LoadedFiles, LoadError> {
    Ok(LoadedFiles(harbor.store.loaded_files()?))
}

/// Those of the zones whose file was edited, or taken away.
pub fn edited_by_hand<'a>(harbor: &Harbor, zones: impl Iterator<Item = &'a Zone>) -> Result<Vec<Hostname>, LoadError> {
    let loaded = loaded_files(harbor)?;
    let mut edited = Vec::new();
    for zone in zones.filter(|zone| zone.home == ZoneHome::Here) {
        let file = read_if_there(&harbor.layout.zone_file(&zone.name))?;
        if loaded.differ(&zone.name, file.as_deref()) {
            edited.push(zone.name.clone());
        }
    }
    Ok(edited)
}
