//! The folders of a new harbor, with the right modes: servers may read zones and site files, nobody else keys.

use std::fs;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::Path;

use brightharbor_core::harbor::{Layout, WebServer};

use super::files::{FileError, failed, write_atomically};

/// Makes the folders, an empty zone list and an empty private inventory file.
pub fn lay_out(layout: &Layout, web: WebServer) -> Result<(), FileError> {
    fs::create_dir_all(layout.root()).map_err(failed("cannot make", layout.root()))?;
    open_to_servers(layout.root())?;
    let zone_list = layout.zone_list();
    let bind = zone_list.parent().unwrap_or(layout.root());
    for folder in [&layout.root().join("servers"), bind, &layout.site_files(web), &layout.zones(), &layout.proofs()] {
        fs::create_dir_all(folder).map_err(failed("cannot make", folder))?;
        open_to_servers(folder)?;
    }
    for folder in [layout.certificates(), layout.ca(), layout.kept()] {
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(failed("cannot make", &folder))?;
    }
    write_atomically(&zone_list, b"", 0o644)?;
    // SQLite gives its other files the mode of this one.
    write_atomically(&layout.inventory(), b"", 0o600)
}

fn open_to_servers(folder: &Path) -> Result<(), FileError> {
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).map_err(failed("cannot set the mode of", folder))
}
