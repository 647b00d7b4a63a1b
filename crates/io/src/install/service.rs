//! Puts a certificate where another service takes it from: a mail server, an administration page.
//!
//! The service's folder is a link to one of ours beside it. A new certificate goes into a new folder, and the link is
//! changed in one step: at no moment a key lies beside a certificate that is not its own.

use std::fs::{self, DirBuilder};
use std::io;
use std::os::unix::fs::{DirBuilderExt, chown, symlink};
use std::path::{Path, PathBuf};

use brightharbor_core::harbor::Service;
use jiff::Timestamp;
use uzers::get_user_by_name;
use zeroize::Zeroizing;

use super::files::{FileError, failed, write_atomically};
use crate::server::{ServerError, run_bounded};

#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    #[error(transparent)]
    File(#[from] FileError),
    #[error("{0} is there and is none of ours: it would be lost")]
    NotOurs(PathBuf),
    #[error("there is no system user `{0}`")]
    NoUser(String),
    #[error("the service was not reloaded, and has its former files again: {0}")]
    Reload(ServerError),
}

/// Whether the service has this chain already.
pub fn service_has(service: &Service, chain_pem: &[u8]) -> bool {
    fs::read(service.folder.join("chain.pem")).is_ok_and(|present| present == chain_pem)
}

/// Puts chain and key in place, together and one by one, and has the service reload. If that fails, its former files are
/// put back.
pub fn place_for_service(service: &Service, chain: &str, key: &str, now: Timestamp) -> Result<(), ServiceError> {
    let link = &service.folder;
    let former = match fs::read_link(link) {
        Ok(former) => Some(former),
        Err(error) if error.kind() == io::ErrorKind::NotFound => None,
        Err(_) => return Err(ServiceError::NotOurs(link.clone())),
    };
    let owner = match &service.owner {
        Some(name) => {
            let user = get_user_by_name(name).ok_or_else(|| ServiceError::NoUser(name.clone()))?;
            Some((user.uid(), user.primary_group_id()))
        }
        None => None,
    };
    let new = beside(link, &now.strftime("%Y%m%d-%H%M%S-%3f").to_string());
    DirBuilder::new().mode(0o750).create(&new).map_err(failed("cannot make", &new))?;
    let both = Zeroizing::new(format!("{key}{chain}"));
    let files = [
        ("key.pem", key.as_bytes(), service.mode),
        ("chain.pem", chain.as_bytes(), service.mode),
        ("both.pem", both.as_bytes(), service.mode),
    ];
    for (name, content, mode) in files {
        let path = new.join(name);
        write_atomically(&path, content, mode)?;
        if let Some((user, group)) = owner {
            chown(&path, Some(user), Some(group)).map_err(failed("cannot give over", &path))?;
        }
    }
    if let Some((user, group)) = owner {
        chown(&new, Some(user), Some(group)).map_err(failed("cannot give over", &new))?;
    }
    point(link, &new)?;
    if let Err(error) = reload(service) {
        match &former {
            Some(former) => point(link, former)?,
            None => fs::remove_file(link).map_err(failed("cannot remove", link))?,
        }
        let _ = fs::remove_dir_all(&new);
        // It may have taken the new ones in part: with the former ones it is asked once more.
        let _ = reload(service);
        return Err(ServiceError::Reload(error));
    }
    // The one before is kept for a service that still has its files open; older ones go.
    forget_older(link, &[Some(new), former]);
    Ok(())
}

fn reload(service: &Service) -> Result<(), ServerError> {
    if service.reload.is_empty() { Ok(()) } else { run_bounded(&service.reload, &[]).map(|_| ()) }
}

/// A folder of ours: `.NAME-TIME` beside the link `NAME`.
fn beside(link: &Path, stamp: &str) -> PathBuf {
    let name = link.file_name().unwrap_or_default().to_string_lossy();
    link.with_file_name(format!(".{name}-{stamp}"))
}

/// Has the link lead to the target, in one step.
fn point(link: &Path, target: &Path) -> Result<(), FileError> {
    let unfinished = beside(link, "link");
    let _ = fs::remove_file(&unfinished);
    symlink(target, &unfinished).map_err(failed("cannot make", &unfinished))?;
    fs::rename(&unfinished, link).map_err(failed("cannot replace", link))
}

fn forget_older(link: &Path, kept: &[Option<PathBuf>]) {
    let prefix = beside(link, "").file_name().unwrap_or_default().to_string_lossy().into_owned();
    let entries = link.parent().and_then(|folder| fs::read_dir(folder).ok()).into_iter().flatten().flatten();
    for entry in entries {
        let (name, path) = (entry.file_name().to_string_lossy().into_owned(), entry.path());
        let stamp = name.strip_prefix(&prefix).unwrap_or_default();
        let is_stamp = stamp.len() == 19 && stamp.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-');
        if is_stamp && !kept.iter().flatten().any(|kept| *kept == path) {
            let _ = fs::remove_dir_all(path);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::name::Hostname;
    use std::os::unix::fs::MetadataExt;

    fn service(folder: &Path, reload: &[&str]) -> Service {
        Service {
            hostname: Hostname::parse("mail.crumbandtide.example").unwrap(),
            folder: folder.join("mail"),
            owner: None,
            mode: 0o640,
            reload: reload.iter().map(ToString::to_string).collect(),
        }
    }

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(1_790_000_000 + second).unwrap()
    }

    #[test]
    fn key_and_chain_change_together_and_two_generations_are_kept() {
        let folder = tempfile::tempdir().unwrap();
        let service = service(folder.path(), &["true"]);
        for (second, word) in [(1, "one"), (2, "two"), (3, "three")] {
            place_for_service(&service, &format!("CHAIN {word}\n"), &format!("KEY {word}\n"), at(second)).unwrap();
            assert!(service_has(&service, format!("CHAIN {word}\n").as_bytes()));
        }
        let read = |name: &str| fs::read_to_string(service.folder.join(name)).unwrap();
        assert_eq!((read("key.pem").as_str(), read("both.pem").as_str()), ("KEY three\n", "KEY three\nCHAIN three\n"));
        assert_eq!(fs::metadata(service.folder.join("key.pem")).unwrap().mode() & 0o777, 0o640);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 3, "the link and two folders");
    }

    #[test]
    fn a_service_that_does_not_reload_has_its_former_files_again() {
        let folder = tempfile::tempdir().unwrap();
        let good = service(folder.path(), &["true"]);
        place_for_service(&good, "CHAIN one\n", "KEY one\n", at(1)).unwrap();
        let bad = service(folder.path(), &["sh", "-c", "echo cannot; exit 1"]);
        let error = place_for_service(&bad, "CHAIN two\n", "KEY two\n", at(2)).unwrap_err();
        assert!(error.to_string().contains("former files"), "{error}");
        assert!(service_has(&good, b"CHAIN one\n"));
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2);
    }

    #[test]
    fn a_folder_of_somebody_else_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let service = service(folder.path(), &[]);
        fs::create_dir(&service.folder).unwrap();
        fs::write(service.folder.join("key.pem"), "THEIRS").unwrap();
        assert!(matches!(place_for_service(&service, "C", "K", at(1)), Err(ServiceError::NotOurs(_))));
        assert_eq!(fs::read_to_string(service.folder.join("key.pem")).unwrap(), "THEIRS");
    }
}
