//! The folders of a new harbor, with the right modes: servers may read zones and site files, nobody else keys.

use std::fs;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::Path;

use brightharbor_core::harbor::{DnsServer, Layout, WebServer};
use brightharbor_core::render::{Publication, zone_index, zone_list_head};

use super::files::{FileError, failed, write_atomically};

/// Makes the folders, an empty zone list for the DNS server, and an empty private inventory file.
pub fn lay_out(layout: &Layout, web: WebServer, dns: DnsServer) -> Result<(), FileError> {
    fs::create_dir_all(layout.root()).map_err(failed("cannot make", layout.root()))?;
    open_to_servers(layout.root())?;
    for folder in [
        &layout.root().join("servers"),
        &layout.site_files(web),
        &layout.zones(),
        &layout.proofs(),
        &layout.templates(),
    ] {
        fs::create_dir_all(folder).map_err(failed("cannot make", folder))?;
        open_to_servers(folder)?;
    }
    for folder in [layout.certificates(), layout.ca(), layout.kept()] {
        fs::DirBuilder::new().recursive(true).mode(0o700).create(&folder).map_err(failed("cannot make", &folder))?;
    }
    if dns.reads_zone_list() {
        lay_out_zone_list(layout, dns)?;
    }
    // SQLite gives its other files the mode of this one.
    write_atomically(&layout.inventory(), b"", 0o600)
}

/// The servers include no file that is missing, so that all parts are there from the start.
fn lay_out_zone_list(layout: &Layout, dns: DnsServer) -> Result<(), FileError> {
    let index = layout.zone_index(dns);
    for folder in [index.parent().unwrap_or(layout.root()).to_path_buf(), index.with_file_name("parts")] {
        fs::create_dir_all(&folder).map_err(failed("cannot make", &folder))?;
        open_to_servers(&folder)?;
    }
    for part in layout.zone_list_parts(dns) {
        fs::write(&part, zone_list_head(dns)).map_err(failed("cannot write", &part))?;
    }
    // Secondaries come in with `zone publish`, which knows their keys.
    write_atomically(&index, zone_index(dns, layout, &Publication::default()).as_bytes(), 0o644)
}

fn open_to_servers(folder: &Path) -> Result<(), FileError> {
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).map_err(failed("cannot set the mode of", folder))
}
