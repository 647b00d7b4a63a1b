//! The folders of a new harbor, with the right modes: servers may read zones and site files, nobody else keys.

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use brightharbor_core::harbor::{DnsServer, Layout, WebServer};
use brightharbor_core::render::{Publication, zone_index, zone_list_head};

use super::files::{FileError, failed, make_private_folder, write_atomically, write_in_place};

/// Makes the folders, an empty zone list for the DNS server, and an empty private inventory file.
pub fn lay_out(layout: &Layout, web: WebServer, dns: DnsServer) -> Result<(), FileError> {
    make_open(layout.root())?;
    for folder in [
        &layout.root().join("servers"),
        &layout.site_files(web),
        &layout.zones(),
        &layout.proofs(),
        &layout.templates(),
        &layout.root().join("own"),
    ] {
        make_open(folder)?;
    }
    if let Some(own) = layout.own_folder(web) {
        make_open(&own)?;
    }
    for folder in [layout.certificates(), layout.ca(), layout.kept()] {
        make_private_folder(&folder)?;
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o700))
            .map_err(failed("cannot set the mode of", &folder))?;
    }
    if dns.reads_zone_list() {
        lay_out_zone_list(layout, dns)?;
    }
    // SQLite gives its other files the mode of this one.
    write_atomically(&layout.inventory(), b"", 0o600)
}

/// Where the settings of a new harbor are written: in its folder, but those of the usual one where packages have settings.
pub fn settings_place(layout: &Layout) -> PathBuf {
    let packaged = Path::new(Layout::USUAL_SETTINGS);
    match layout.root() == Path::new(Layout::USUAL) && packaged.is_dir() {
        true => packaged.join("harbor.toml"),
        false => layout.settings(),
    }
}

/// Writes the settings of a new harbor; those that are elsewhere are linked to from its folder.
pub fn write_settings(layout: &Layout, text: &str) -> Result<(), FileError> {
    let (place, settings) = (settings_place(layout), layout.settings());
    if !place.exists() {
        write_atomically(&place, text.as_bytes(), 0o644)?;
    }
    match place == settings {
        true => Ok(()),
        false => std::os::unix::fs::symlink(&place, &settings).map_err(failed("cannot link", &settings)),
    }
}

/// The servers include no file that is missing, so that all parts are there from the start.
fn lay_out_zone_list(layout: &Layout, dns: DnsServer) -> Result<(), FileError> {
    let index = layout.zone_index(dns);
    for folder in [index.parent().unwrap_or(layout.root()).to_path_buf(), index.with_file_name("parts")] {
        make_open(&folder)?;
    }
    for part in layout.zone_list_parts(dns) {
        write_in_place(&part, zone_list_head(dns).as_bytes(), 0o644)?;
    }
    // Secondaries come in with `zone publish`, which knows their keys.
    write_atomically(&index, zone_index(dns, layout, &Publication::default()).as_bytes(), 0o644)
}

/// Makes a folder that servers may enter, with those above it that are missing: whatever the umask is.
pub(crate) fn make_open(folder: &Path) -> Result<(), FileError> {
    let missing: Vec<&Path> = folder.ancestors().take_while(|above| !above.exists()).collect();
    fs::create_dir_all(folder).map_err(failed("cannot make", folder))?;
    for made in missing.into_iter().chain([folder]) {
        fs::set_permissions(made, fs::Permissions::from_mode(0o755)).map_err(failed("cannot set the mode of", made))?;
    }
    Ok(())
}

/// The first folder on the way to `folder` that others than its owner and group cannot enter: the users that servers run as
/// would find nothing below it.
pub fn closed_above(folder: &Path) -> Option<PathBuf> {
    let closed = |above: &&Path| fs::metadata(above).is_ok_and(|found| found.permissions().mode() & 0o001 == 0);
    folder.ancestors().filter(closed).last().map(Path::to_path_buf)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_have_their_modes_whatever_the_umask_is() {
        let folder = tempfile::tempdir().unwrap();
        let layout = Layout::new(folder.path().join("deep/harbor"));
        // The umask belongs to the whole process: modes are taken away instead, as a strict one would.
        fs::create_dir_all(layout.root()).unwrap();
        fs::set_permissions(layout.root(), fs::Permissions::from_mode(0o700)).unwrap();
        lay_out(&layout, WebServer::Nginx, DnsServer::Bind).unwrap();
        let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
        for open in [layout.root(), &layout.zones(), &layout.proofs(), &layout.site_files(WebServer::Nginx)] {
            assert_eq!(mode(open), 0o755, "{}", open.display());
        }
        for private in [layout.certificates(), layout.ca(), layout.kept()] {
            assert_eq!(mode(&private), 0o700, "{}", private.display());
        }
        assert!(layout.zone_list_parts(DnsServer::Bind).all(|part| mode(&part) == 0o644));
        assert_eq!((mode(&layout.inventory()), mode(&layout.zone_index(DnsServer::Bind))), (0o600, 0o644));
    }

    #[test]
    fn a_folder_that_servers_cannot_enter_is_found() {
        let folder = tempfile::tempdir().unwrap();
        let harbor = folder.path().join("deep/harbor");
        fs::create_dir_all(&harbor).unwrap();
        let set = |path: &Path, mode: u32| fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        set(folder.path(), 0o755);
        assert_eq!(closed_above(&harbor), None);
        set(&harbor, 0o750);
        assert_eq!(closed_above(&harbor), Some(harbor.clone()));
        set(folder.path(), 0o700);
        assert_eq!(closed_above(&harbor).as_deref(), Some(folder.path()), "the first on the way");
    }
}
