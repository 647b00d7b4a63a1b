//! Puts a certificate where another service takes it from: a mail server, an administration page.
//!
//! The service's folder is a link to one of ours beside it. A new certificate goes into a new folder, and the link is
//! changed in one step: at no moment a key lies beside a certificate that is not its own.

use std::fs::{self, DirBuilder};
use std::io;
use std::os::unix::fs::{DirBuilderExt, chown, symlink};
use std::path::{Path, PathBuf};

use brightharbor_core::change::ServicePlacing;
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
    #[error("{0} already exists and was not created by brightharbor; not overwriting it")]
    NotOurs(PathBuf),
    #[error("system user `{0}` not found")]
    NoUser(String),
    #[error("the service does not reload: {0}")]
    Reload(ServerError),
}

/// Whether the service has this chain already.
pub fn service_has(service: &Service, chain_pem: &[u8]) -> bool {
    fs::read(service.folder.join("chain.pem")).is_ok_and(|present| present == chain_pem)
}

/// Where the service's link leads: to a folder of ours, or nowhere yet. Anything else there is somebody's own.
pub fn leads_to(service: &Service) -> Result<Option<PathBuf>, ServiceError> {
    match fs::read_link(&service.folder) {
        Ok(former) => Ok(Some(former)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(_) => Err(ServiceError::NotOurs(service.folder.clone())),
    }
}

/// A folder beside the link for what comes now.
pub fn folder_for(service: &Service, now: Timestamp) -> PathBuf {
    beside(&service.folder, &now.strftime("%Y%m%d-%H%M%S-%3f").to_string())
}

/// Puts chain and key in place, together and one by one, and has the service reload. What fails is for the caller to take
/// back ([`take_from_service`]).
pub async fn place_for_service(placing: &ServicePlacing) -> Result<(), ServiceError> {
    let ServicePlacing { service, former, folder: new, chain_pem: chain, key_pem: key, .. } = placing;
    let owner = match &service.owner {
        Some(name) => {
            let user = get_user_by_name(name).ok_or_else(|| ServiceError::NoUser(name.clone()))?;
            Some((user.uid(), user.primary_group_id()))
        }
        None => None,
    };
    DirBuilder::new().mode(0o750).create(new).map_err(failed("cannot make", new))?;
    let both = Zeroizing::new(format!("{}{chain}", key.as_str()));
    let files = [("key.pem", key.as_bytes()), ("chain.pem", chain.as_bytes()), ("both.pem", both.as_bytes())];
    for (name, content) in files {
        let path = new.join(name);
        write_atomically(&path, content, service.mode)?;
        if let Some((user, group)) = owner {
            chown(&path, Some(user), Some(group)).map_err(failed("cannot give over", &path))?;
        }
    }
    if let Some((user, group)) = owner {
        chown(new, Some(user), Some(group)).map_err(failed("cannot give over", new))?;
    }
    point(&service.folder, new)?;
    reload_service(service).await.map_err(ServiceError::Reload)?;
    // The one before is kept for a service that still has its files open; older ones go.
    forget_older(&service.folder, &[Some(new.clone()), former.clone()]);
    Ok(())
}

/// Has the service's link lead to where it did. One that leads elsewhere by now is left alone. The service is not told.
pub fn take_from_service(link: &Path, former: Option<&Path>, new: &Path) -> Result<(), FileError> {
    if fs::read_link(link).is_ok_and(|target| target == new) {
        match former {
            Some(former) => point(link, former)?,
            None => fs::remove_file(link).map_err(failed("cannot remove", link))?,
        }
    }
    match fs::remove_dir_all(new) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(failed("cannot remove", new)(error)),
        _ => Ok(()),
    }
}

/// Tells the service to take the files that its link leads to.
pub async fn reload_service(service: &Service) -> Result<(), ServerError> {
    if service.reload.is_empty() { Ok(()) } else { run_bounded(&service.reload, &[]).await.map(|_| ()) }
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

    fn placing(service: &Service, second: i64, word: &str) -> ServicePlacing {
        ServicePlacing {
            name: "post".into(),
            service: service.clone(),
            former: leads_to(service).unwrap(),
            folder: folder_for(service, Timestamp::from_second(1_790_000_000 + second).unwrap()),
            chain_pem: format!("CHAIN {word}\n"),
            key_pem: Zeroizing::new(format!("KEY {word}\n")),
        }
    }

    #[tokio::test]
    async fn key_and_chain_change_together_and_two_generations_are_kept() {
        let folder = tempfile::tempdir().unwrap();
        let service = service(folder.path(), &["true"]);
        for (second, word) in [(1, "one"), (2, "two"), (3, "three")] {
            place_for_service(&placing(&service, second, word)).await.unwrap();
            assert!(service_has(&service, format!("CHAIN {word}\n").as_bytes()));
        }
        let read = |name: &str| fs::read_to_string(service.folder.join(name)).unwrap();
        assert_eq!((read("key.pem").as_str(), read("both.pem").as_str()), ("KEY three\n", "KEY three\nCHAIN three\n"));
        assert_eq!(fs::metadata(service.folder.join("key.pem")).unwrap().mode() & 0o777, 0o640);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 3, "the link and two folders");
    }

    #[tokio::test]
    async fn what_is_taken_back_leaves_the_former_files_or_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let bad = service(folder.path(), &["sh", "-c", "echo cannot; exit 1"]);
        let first = placing(&bad, 1, "one");
        assert!(place_for_service(&first).await.unwrap_err().to_string().contains("does not reload"));
        take_from_service(&bad.folder, None, &first.folder).unwrap();
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);

        let good = service(folder.path(), &["true"]);
        place_for_service(&placing(&good, 2, "two")).await.unwrap();
        let third = placing(&bad, 3, "three");
        place_for_service(&third).await.unwrap_err();
        take_from_service(&bad.folder, third.former.as_deref(), &third.folder).unwrap();
        assert!(service_has(&good, b"CHAIN two\n"));
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 2);
        // Once more, or for a link that leads elsewhere by now, nothing is touched.
        take_from_service(&bad.folder, None, &third.folder).unwrap();
        assert!(service_has(&good, b"CHAIN two\n"));
    }

    #[test]
    fn a_folder_of_somebody_else_is_left_alone() {
        let folder = tempfile::tempdir().unwrap();
        let service = service(folder.path(), &[]);
        fs::create_dir(&service.folder).unwrap();
        fs::write(service.folder.join("key.pem"), "THEIRS").unwrap();
        assert!(matches!(leads_to(&service), Err(ServiceError::NotOurs(_))));
        assert_eq!(fs::read_to_string(service.folder.join("key.pem")).unwrap(), "THEIRS");
    }
}
