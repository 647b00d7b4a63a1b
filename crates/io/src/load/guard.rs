//! What the protection of a path rests on.

use brightharbor_core::site::{ProtectLoaded, Site};

use super::LoadError;
use crate::overlay::Overlay;

pub fn protect(overlay: &Overlay<'_>, site: Site, path: &str) -> Result<ProtectLoaded, LoadError> {
    let passwords = overlay.layout.passwords_of(site.main(), path);
    Ok(ProtectLoaded {
        site_file: overlay.site_file(&site)?,
        has_folder: passwords.parent().is_some_and(std::path::Path::is_dir),
        passwords: overlay.file(&passwords)?,
        site,
    })
}
