//! Clears away the files of certificates that are over, so that old keys do not lie about for ever.

use std::fs;
use std::io::ErrorKind;

use brightharbor_core::certificate::former::FormerCertificate;
use brightharbor_core::harbor::{Layout, WebServer};

use super::files::{FileError, failed};

/// Takes away key, chain and staple, and the folders that this leaves empty: whatever else lies there stays. Gives whether they
/// are gone: a site's file that was changed by hand may still name them.
///
/// There is no way back, and no copy is kept.
pub fn clear_away(former: &FormerCertificate, server: WebServer, layout: &Layout) -> Result<bool, FileError> {
    let folder = former.files.folder();
    // What this harbor has not put there is not its to remove.
    if folder.parent().and_then(|site| site.parent()) != Some(layout.certificates().as_path()) {
        return Ok(false);
    }
    let served = fs::read(layout.site_file(server, &former.site)).unwrap_or_default();
    if String::from_utf8_lossy(&served).contains(&*folder.to_string_lossy()) {
        return Ok(false);
    }
    for file in [former.files.key(), former.files.chain(), former.files.staple()] {
        match fs::remove_file(&file) {
            Err(error) if error.kind() != ErrorKind::NotFound => return Err(failed("cannot remove", &file)(error)),
            _ => {}
        }
    }
    for folder in folder.ancestors().take(2) {
        let _ = fs::remove_dir(folder);
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use brightharbor_core::certificate::CertificateFiles;
    use brightharbor_core::name::Host;

    use super::*;

    fn laid(folder: &Path) -> FormerCertificate {
        fs::create_dir_all(folder).unwrap();
        let files = CertificateFiles { folder: folder.to_path_buf() };
        fs::write(files.key(), "key").unwrap();
        fs::write(files.chain(), "chain").unwrap();
        fs::write(files.staple(), "statement").unwrap();
        FormerCertificate { site: Host::parse("gullrock.example").unwrap(), files, revoked: false }
    }

    #[test]
    fn key_chain_and_empty_folders_go_and_nothing_else_does() {
        let harbor = tempfile::tempdir().unwrap();
        let layout = Layout::new(harbor.path());
        let site = layout.certificates().join("gullrock.example");
        let (old, newer) = (laid(&site.join("1")), laid(&site.join("2")));
        fs::write(newer.files.folder().join("notes.txt"), "mine").unwrap();
        assert!(clear_away(&old, WebServer::Nginx, &layout).unwrap());
        assert!(!site.join("1").exists() && newer.files.key().exists());
        assert!(clear_away(&newer, WebServer::Nginx, &layout).unwrap());
        assert!(!newer.files.key().exists() && site.join("2/notes.txt").exists());
        // Once more does no harm.
        assert!(clear_away(&old, WebServer::Nginx, &layout).unwrap());
    }

    #[test]
    fn what_a_server_file_names_and_what_lies_elsewhere_stays() {
        let harbor = tempfile::tempdir().unwrap();
        let layout = Layout::new(harbor.path());
        let named = laid(&layout.certificates().join("gullrock.example/1"));
        let file = layout.site_file(WebServer::Nginx, &named.site);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(&file, format!("ssl_certificate_key {};\n", named.files.key().display())).unwrap();
        assert!(!clear_away(&named, WebServer::Nginx, &layout).unwrap());
        let elsewhere = laid(&harbor.path().join("mine/gullrock.example/1"));
        assert!(!clear_away(&elsewhere, WebServer::Nginx, &layout).unwrap());
        assert!(named.files.key().exists() && elsewhere.files.key().exists());
    }
}
