//! Puts a certificate where another service takes it from: a mail server, an administration page.
//!
//! The service's folder is a link to one of ours beside it. A new certificate goes into a new folder, and the link is
//! changed in one step: at no moment a key lies beside a certificate that is not its own.
//!
//! The service's user owns what it is given, and may try to be given more: everything is done below an opened folder that
//! nobody but root may change, and ownership goes with descriptors alone.

use std::ffi::{CStr, OsStr};
use std::os::fd::{AsFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use brightharbor_core::change::ServicePlacing;
use brightharbor_core::harbor::Service;
use jiff::Timestamp;
use rustix::fs::{
    AtFlags, Gid, Mode, OFlags, Uid, fchmod, fchown, mkdirat, openat, readlinkat, renameat, symlinkat, unlinkat,
};
use rustix::io::Errno;
use zeroize::Zeroizing;

use super::folders::{FolderError, owner, put_new_file};
use super::walk::{read_regular, walk_to};
use crate::server::{ServerError, run_bounded};

#[derive(Debug, thiserror::Error)]
pub enum ServiceError {
    #[error(transparent)]
    Folder(#[from] FolderError),
    #[error("{0} already exists and was not created by brightharbor; not overwriting it")]
    NotOurs(PathBuf),
    #[error("the service does not reload: {0}")]
    Reload(ServerError),
}

/// A chain is read as far as one that is longer than ours can be told.
const ONE_MORE: usize = 1;

/// Whether the service has this chain already.
pub fn service_has(service: &Service, chain_pem: &[u8]) -> bool {
    let read = read_regular(&service.folder.join("chain.pem"), chain_pem.len() + ONE_MORE);
    read.is_ok_and(|present| present == chain_pem)
}

/// Where the service's link leads: to a folder of ours, or nowhere yet. Anything else there is somebody's own.
pub fn leads_to(service: &Service) -> Result<Option<PathBuf>, ServiceError> {
    target_of(&Beside::of(&service.folder)?)
}

fn target_of(beside: &Beside) -> Result<Option<PathBuf>, ServiceError> {
    match readlinkat(&beside.parent, &beside.name, Vec::new()) {
        Ok(former) => Ok(Some(PathBuf::from(OsStr::from_bytes(former.as_bytes())))),
        Err(Errno::NOENT) => Ok(None),
        Err(_) => Err(ServiceError::NotOurs(beside.path.clone())),
    }
}

/// A folder beside the link for what comes now.
pub fn folder_for(service: &Service, now: Timestamp) -> PathBuf {
    let name = service.folder.file_name().unwrap_or_default().to_string_lossy();
    service.folder.with_file_name(format!(".{name}-{}", now.strftime("%Y%m%d-%H%M%S-%3f")))
}

/// Puts chain and key in place, together and one by one, and has the service reload. What fails is for the caller to take
/// back ([`take_from_service`]).
pub async fn place_for_service(placing: &ServicePlacing) -> Result<(), ServiceError> {
    let ServicePlacing { service, former, folder: new, chain_pem: chain, key_pem: key, .. } = placing;
    let owner = owner(service.owner.as_deref())?;
    let beside = Beside::of(&service.folder)?;
    let failed = |path: &Path| {
        let path = path.to_path_buf();
        move |errno: Errno| FolderError::Failed { path, reason: errno.to_string() }
    };
    let name = new.file_name().unwrap_or_default();
    // Only ours until everything in it has its owner.
    mkdirat(&beside.parent, name, Mode::from_raw_mode(0o700)).map_err(failed(new))?;
    let folder = beside.open(name).map_err(failed(new))?;
    let both = Zeroizing::new(format!("{}{chain}", key.as_str()));
    let files = [("key.pem", key.as_bytes()), ("chain.pem", chain.as_bytes()), ("both.pem", both.as_bytes())];
    for (file, content) in files {
        put_new_file(&folder, OsStr::new(file), content, &owner, service.mode).map_err(failed(&new.join(file)))?;
    }
    if owner.give {
        fchown(folder.as_fd(), Some(Uid::from_raw(owner.uid)), Some(Gid::from_raw(owner.gid))).map_err(failed(new))?;
    }
    fchmod(folder.as_fd(), Mode::from_raw_mode(0o750)).map_err(failed(new))?;
    sync(&folder).map_err(failed(new))?;
    beside.point(new).map_err(failed(&service.folder))?;
    reload_service(service).await.map_err(ServiceError::Reload)?;
    // The one before is kept for a service that still has its files open; older ones go.
    beside.forget_older(&[Some(new.clone()), former.clone()]);
    Ok(())
}

/// Has the service's link lead to where it did. One that leads elsewhere by now is left alone. The service is not told.
pub fn take_from_service(link: &Path, former: Option<&Path>, new: &Path) -> Result<(), ServiceError> {
    let beside = Beside::of(link)?;
    let failed = |errno: Errno| FolderError::Failed { path: link.to_path_buf(), reason: errno.to_string() };
    if target_of(&beside).is_ok_and(|target| target.as_deref() == Some(new)) {
        match former {
            Some(former) => beside.point(former).map_err(failed)?,
            None => unlinkat(&beside.parent, &beside.name, AtFlags::empty()).map_err(failed)?,
        }
    }
    match new.file_name().map(|name| beside.empty_and_remove(name)) {
        Some(Err(errno)) if errno != Errno::NOENT => Err(failed(errno).into()),
        _ => Ok(sync(&beside.parent).map_err(failed)?),
    }
}

/// Tells the service to take the files that its link leads to.
pub async fn reload_service(service: &Service) -> Result<(), ServerError> {
    if service.reload.is_empty() { Ok(()) } else { run_bounded(&service.reload, &[]).await.map(|_| ()) }
}

/// The folder that the link and our folders lie in side by side: `.NAME-TIME` beside the link `NAME`.
struct Beside {
    path: PathBuf,
    parent: OwnedFd,
    name: std::ffi::OsString,
}

impl Beside {
    /// Refuses a parent that others than root could change: whoever may, could put links in our way.
    fn of(link: &Path) -> Result<Self, FolderError> {
        let parent = walk_to(link.parent().unwrap_or(Path::new("/")), true)?;
        let failed = |errno: Errno| FolderError::Failed { path: link.to_path_buf(), reason: errno.to_string() };
        // It was opened as a mere place; to list and to sync it, it is opened once more.
        let parent = openat(&parent, ".", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        let name = link.file_name().ok_or_else(|| failed(Errno::INVAL))?.to_os_string();
        Ok(Self { path: link.to_path_buf(), parent: parent.map_err(failed)?, name })
    }

    fn open(&self, name: &OsStr) -> Result<OwnedFd, Errno> {
        let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        openat(&self.parent, name, flags, Mode::empty())
    }

    /// Has the link lead to the target, in one step, and on disk.
    fn point(&self, target: &Path) -> Result<(), Errno> {
        let unfinished = format!(".{}-link", self.name.to_string_lossy());
        let _ = unlinkat(&self.parent, &unfinished, AtFlags::empty());
        symlinkat(target, &self.parent, &unfinished)?;
        renameat(&self.parent, &unfinished, &self.parent, &self.name)?;
        sync(&self.parent)
    }

    fn forget_older(&self, kept: &[Option<PathBuf>]) {
        let prefix = format!(".{}-", self.name.to_string_lossy());
        let is_stamp =
            |stamp: &str| stamp.len() == 19 && stamp.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-');
        for name in names_in(&self.parent) {
            let path = self.path.with_file_name(OsStr::from_bytes(name.to_bytes()));
            let older = name.to_str().ok().and_then(|name| name.strip_prefix(&prefix)).is_some_and(is_stamp);
            if older && !kept.iter().flatten().any(|kept| *kept == path) {
                let _ = self.empty_and_remove(OsStr::from_bytes(name.to_bytes()));
            }
        }
    }

    /// Our folders hold files alone. Its owner may have put more there: then it stays, empty of ours.
    fn empty_and_remove(&self, name: &OsStr) -> Result<(), Errno> {
        let folder = self.open(name)?;
        for file in names_in(&folder) {
            unlinkat(&folder, file.as_c_str(), AtFlags::empty())?;
        }
        unlinkat(&self.parent, name, AtFlags::REMOVEDIR)
    }
}

fn names_in(folder: &OwnedFd) -> Vec<std::ffi::CString> {
    let Ok(entries) = rustix::fs::Dir::read_from(folder) else { return vec![] };
    let is_name = |name: &CStr| ![&b"."[..], b".."].contains(&name.to_bytes());
    entries.flatten().map(|entry| entry.file_name().to_owned()).filter(|name| is_name(name)).collect()
}

fn sync(folder: &OwnedFd) -> Result<(), Errno> {
    rustix::fs::fsync(folder)
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::name::Hostname;
    use std::fs;
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

    #[tokio::test]
    async fn a_parent_that_others_may_change_gets_nothing() {
        use std::os::unix::fs::{PermissionsExt, chown, symlink};
        let folder = tempfile::tempdir().unwrap();
        let place = |service: &Service| {
            let folder = folder_for(service, Timestamp::from_second(1_790_000_000).unwrap());
            let (name, chain_pem, key_pem) =
                ("post".to_string(), "CHAIN".to_string(), Zeroizing::new("KEY".to_string()));
            ServicePlacing { name, service: service.clone(), former: None, folder, chain_pem, key_pem }
        };
        let parent = folder.path().join("post");
        fs::create_dir(&parent).unwrap();
        let service = service(&parent, &[]);
        fs::set_permissions(&parent, fs::Permissions::from_mode(0o777)).unwrap();
        let refused = |error: ServiceError| matches!(error, ServiceError::Folder(FolderError::OthersMayChange(_)));
        assert!(refused(leads_to(&service).unwrap_err()));
        assert!(refused(place_for_service(&place(&service)).await.unwrap_err()));
        if rustix::process::geteuid().as_raw() == 0 {
            fs::set_permissions(&parent, fs::Permissions::from_mode(0o755)).unwrap();
            chown(&parent, Some(1), None).unwrap();
            assert!(refused(place_for_service(&place(&service)).await.unwrap_err()));
            chown(&parent, Some(0), None).unwrap();
            // A link in the place of the new folder is not gone through, and what it leads to stays as it is.
            let outside = folder.path().join("outside");
            fs::create_dir(&outside).unwrap();
            symlink(&outside, place(&service).folder).unwrap();
            place_for_service(&place(&service)).await.unwrap_err();
            assert_eq!(fs::metadata(&outside).unwrap().uid(), 0);
            assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
        }
    }

    /// The service's user owns its folder, and may put anything into it between two certificates.
    #[tokio::test]
    async fn what_the_services_user_plants_in_its_folder_leads_nowhere_and_holds_up_nothing() {
        use std::os::unix::fs::symlink;
        let folder = tempfile::tempdir().unwrap();
        let (service, outside) = (service(folder.path(), &[]), folder.path().join("outside"));
        fs::create_dir(&outside).unwrap();
        fs::write(outside.join("secret"), "of root").unwrap();
        place_for_service(&placing(&service, 1, "one")).await.unwrap();
        let first = leads_to(&service).unwrap().unwrap();
        for file in ["key.pem", "chain.pem", "both.pem"] {
            fs::remove_file(first.join(file)).unwrap();
        }
        symlink(outside.join("secret"), first.join("key.pem")).unwrap();
        symlink(&outside, first.join("folder")).unwrap();
        let (pipe, mode) = (rustix::fs::FileType::Fifo, Mode::from_raw_mode(0o600));
        rustix::fs::mknodat(rustix::fs::CWD, first.join("chain.pem"), pipe, mode, 0).unwrap();
        assert!(!service_has(&service, b"CHAIN one\n"), "a pipe is not waited for");
        place_for_service(&placing(&service, 2, "two")).await.unwrap();
        place_for_service(&placing(&service, 3, "three")).await.unwrap();
        assert!(service_has(&service, b"CHAIN three\n") && !first.exists(), "it went with all that was planted");
        assert_eq!(fs::read_to_string(outside.join("secret")).unwrap(), "of root");
        // A folder of its own making is not looked into, and stays.
        let third = leads_to(&service).unwrap().unwrap();
        fs::create_dir(third.join("own")).unwrap();
        fs::write(third.join("own/kept"), "kept").unwrap();
        place_for_service(&placing(&service, 4, "four")).await.unwrap();
        place_for_service(&placing(&service, 5, "five")).await.unwrap();
        assert!(third.join("own/kept").exists() && service_has(&service, b"CHAIN five\n"));
    }

    #[tokio::test]
    async fn files_go_to_the_owner_with_their_mode() {
        let folder = tempfile::tempdir().unwrap();
        let user = uzers::get_user_by_name("daemon").expect("every Unix has the user daemon");
        let service = Service { owner: Some("daemon".into()), ..service(folder.path(), &[]) };
        let placed = place_for_service(&placing(&service, 1, "one")).await;
        if rustix::process::geteuid().as_raw() != 0 {
            assert!(matches!(placed, Err(ServiceError::Folder(FolderError::NotRoot(_)))));
            return;
        }
        placed.unwrap();
        for name in ["", "key.pem", "chain.pem", "both.pem"] {
            let metadata = fs::metadata(service.folder.join(name)).unwrap();
            let mode = if name.is_empty() { 0o750 } else { 0o640 };
            assert_eq!((metadata.uid(), metadata.mode() & 0o777), (user.uid(), mode), "{name}");
        }
        let nobody = Service { owner: Some("no-such-user".into()), ..service };
        let failed = place_for_service(&placing(&nobody, 2, "two")).await.unwrap_err();
        assert_eq!(failed.to_string(), "system user `no-such-user` not found");
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
