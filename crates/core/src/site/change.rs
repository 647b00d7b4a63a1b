//! A site that changes: its file written anew, and the inventory beside it.

use super::Site;
use crate::change::{ChangeSet, FileWrite, InventoryChange, Purpose};
use crate::harbor::{Layout, Settings};
use crate::render;

/// Adds to the set what makes `before` serve as `after`. `site_file` is the file as it was read; it is left alone if
/// nothing in it changes, so that no server reads it again for nothing.
pub fn change_site(
    set: &mut ChangeSet,
    before: &Site,
    after: &Site,
    site_file: Option<Vec<u8>>,
    settings: &Settings,
    layout: &Layout,
) {
    if let Some(text) = render::site_file(after, settings, layout) {
        let path = layout.site_file(settings.web.server, after.main());
        let pending = set.pending(&path).or(site_file.as_deref());
        if pending != Some(text.as_bytes()) {
            set.file(FileWrite::new(path, site_file, text, 0o644, Purpose::SiteFile));
        }
    }
    set.inventory(InventoryChange::ReplaceSite { before: before.clone(), after: after.clone() });
}
