//! Document roots, made inside homes that customers control.
//!
//! Every component is opened below the one before it (RESOLVE_BENEATH, no symbolic links, no magic links), so that a link
//! planted anywhere leads nowhere. What exists must belong to the account or to the user who runs the program; ownership
//! and mode are only set on folders that were made here, through their descriptor.

use std::ffi::OsStr;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Component, Path, PathBuf};

use brightharbor_core::change::FolderMake;
use rustix::fs::{AtFlags, Gid, Mode, OFlags, Uid, fchmod, fchown, fstat, mkdirat, statat, unlinkat};
use rustix::io::Errno;

use super::starter::copy_starter_files;
use super::walk::{open_beneath, walk_to};

#[derive(Debug, thiserror::Error)]
pub enum FolderError {
    #[error("{0} is a symbolic link, and links are not followed inside homes")]
    Link(PathBuf),
    #[error("{0} is not a folder")]
    NotAFolder(PathBuf),
    #[error("{path} belongs to another user (uid {uid})")]
    Foreign { path: PathBuf, uid: u32 },
    #[error("somebody has put another folder in the place of {0}")]
    Replaced(PathBuf),
    #[error("{0} may be changed by others than root and whoever runs this")]
    OthersMayChange(PathBuf),
    #[error("system user `{0}` not found")]
    NoUser(String),
    #[error("group `{0}` not found; `group` under [web] in harbor.toml names that of the web server")]
    NoGroup(String),
    #[error("only root can make folders for the system user `{0}`")]
    NotRoot(String),
    #[error("{path}: {reason}")]
    Failed { path: PathBuf, reason: String },
}

pub(super) struct Owner {
    pub(super) uid: u32,
    pub(super) gid: u32,
    /// Whether new folders have to be given to the owner.
    pub(super) give: bool,
}

impl Owner {
    /// The same with another group. Only root gives a folder to any group.
    fn with_group(&self, name: &str) -> Result<Self, FolderError> {
        let of_name = uzers::get_group_by_name(name).map(|group| group.gid());
        // A user's name stands for the user's own group.
        let gid = of_name.or_else(|| uzers::get_user_by_name(name).map(|user| user.primary_group_id()));
        let gid = gid.ok_or_else(|| FolderError::NoGroup(name.to_string()))?;
        Ok(Self { gid, give: rustix::process::geteuid().is_root(), ..*self })
    }
}

/// Makes the folder with everything missing above it, and the starter page if the folder is empty.
pub fn make_folder(make: &FolderMake) -> Result<(), FolderError> {
    let owner = owner(make.system_user.as_deref())?;
    let mut at = open_home(make, &owner)?;
    let mut path = make.home.clone();
    let components: Vec<&OsStr> = make
        .below
        .components()
        .map(|component| match component {
            Component::Normal(name) => Ok(name),
            _ => Err(FolderError::Failed { path: make.below.clone(), reason: "is not a plain path".into() }),
        })
        .collect::<Result<_, _>>()?;
    let last = components.len().saturating_sub(1);
    for (place, name) in components.into_iter().enumerate() {
        path.push(name);
        at = match &make.group {
            Some(group) if place == last => enter(&at, name, &path, make.mode, &owner.with_group(group)?)?,
            Some(_) => enter(&at, name, &path, 0o755, &owner)?,
            None => enter(&at, name, &path, make.mode, &owner)?,
        };
    }
    match &make.starter_page {
        Some(page) if !make.below.as_os_str().is_empty() && is_empty(&at, &path)? => {
            match make.starter_files.iter().find(|folder| folder.is_dir()) {
                Some(folder) => copy_starter_files(&at, &path, folder, &owner),
                None => put_file(&at, OsStr::new("index.html"), &path, page.as_bytes(), &owner),
            }
        }
        _ => Ok(()),
    }
}

pub(super) fn owner(system_user: Option<&str>) -> Result<Owner, FolderError> {
    let own = rustix::process::geteuid().as_raw();
    let own_group = rustix::process::getegid().as_raw();
    let Some(name) = system_user else { return Ok(Owner { uid: own, gid: own_group, give: false }) };
    let user = uzers::get_user_by_name(name).ok_or_else(|| FolderError::NoUser(name.to_string()))?;
    if own != 0 && own != user.uid() {
        return Err(FolderError::NotRoot(name.to_string()));
    }
    Ok(Owner { uid: user.uid(), gid: user.primary_group_id(), give: own == 0 })
}

/// The home itself is made if its parent is there. The administrator's own links lead to it, and nobody else's.
fn open_home(make: &FolderMake, owner: &Owner) -> Result<OwnedFd, FolderError> {
    let failed = |errno: Errno| FolderError::Failed { path: make.home.clone(), reason: errno.to_string() };
    let parent = make.home.parent().unwrap_or(Path::new("/"));
    let name = make.home.file_name().ok_or_else(|| failed(Errno::INVAL))?;
    enter(&walk_to(parent, false)?, name, &make.home, 0o711, owner)
}

/// Takes a folder away that was just made, if nobody has put anything into it.
pub(crate) fn remove_empty(folder: &Path) -> Result<(), FolderError> {
    let failed = |errno: Errno| FolderError::Failed { path: folder.to_path_buf(), reason: errno.to_string() };
    let name = folder.file_name().ok_or_else(|| failed(Errno::INVAL))?;
    let parent = match walk_to(folder.parent().unwrap_or(Path::new("/")), false) {
        Ok(parent) => parent,
        // It was never made.
        Err(FolderError::Failed { .. }) => return Ok(()),
        Err(error) => return Err(error),
    };
    match unlinkat(&parent, name, AtFlags::REMOVEDIR) {
        Ok(()) | Err(Errno::NOENT | Errno::NOTEMPTY | Errno::NOTDIR) => Ok(()),
        Err(errno) => Err(failed(errno)),
    }
}

/// Opens the folder `name` in `parent`, making it if it is missing.
pub(super) fn enter(
    parent: &OwnedFd,
    name: &OsStr,
    path: &Path,
    mode: u32,
    owner: &Owner,
) -> Result<OwnedFd, FolderError> {
    let failed = |errno: Errno| match errno {
        Errno::LOOP | Errno::XDEV => FolderError::Link(path.to_path_buf()),
        Errno::NOTDIR => match statat(parent, name, AtFlags::SYMLINK_NOFOLLOW) {
            Ok(stat) if stat.st_mode & 0o170_000 == 0o120_000 => FolderError::Link(path.to_path_buf()),
            _ => FolderError::NotAFolder(path.to_path_buf()),
        },
        errno => FolderError::Failed { path: path.to_path_buf(), reason: errno.to_string() },
    };
    let look = || open_beneath(parent.as_fd(), Path::new(name), OFlags::DIRECTORY | OFlags::RDONLY);
    let (folder, made) = match look() {
        Ok(folder) => (folder, false),
        Err(Errno::NOENT) => {
            mkdirat(parent, name, Mode::from_raw_mode(0o700)).map_err(failed)?;
            (look().map_err(failed)?, true)
        }
        Err(errno) => return Err(failed(errno)),
    };
    let stat = fstat(folder.as_fd()).map_err(failed)?;
    let own = rustix::process::geteuid().as_raw();
    if stat.st_uid != owner.uid && stat.st_uid != own {
        return Err(FolderError::Foreign { path: path.to_path_buf(), uid: stat.st_uid });
    }
    if made {
        // Whoever owns the folder above may have put another one in its place since: one of root's, with something in it.
        let above = fstat(parent.as_fd()).map_err(failed)?;
        let is_ours = stat.st_uid == own && stat.st_mode & 0o777 == 0o700 && stat.st_dev == above.st_dev;
        if !is_ours || !is_empty(&folder, path)? {
            return Err(FolderError::Replaced(path.to_path_buf()));
        }
        if owner.give {
            fchown(folder.as_fd(), Some(Uid::from_raw(owner.uid)), Some(Gid::from_raw(owner.gid))).map_err(failed)?;
        }
        fchmod(folder.as_fd(), Mode::from_raw_mode(mode)).map_err(failed)?;
    }
    Ok(folder)
}

fn is_empty(folder: &OwnedFd, path: &Path) -> Result<bool, FolderError> {
    let failed = |errno: Errno| FolderError::Failed { path: path.to_path_buf(), reason: errno.to_string() };
    let mut entries = rustix::fs::Dir::read_from(folder).map_err(failed)?;
    let is_content = |entry: &rustix::fs::DirEntry| ![&b"."[..], b".."].contains(&entry.file_name().to_bytes());
    Ok(!entries.any(|entry| entry.is_ok_and(|entry| is_content(&entry))))
}

/// Puts a new file for visitors into an opened folder. One that the customer has made meanwhile stays.
pub(super) fn put_file(
    folder: &OwnedFd,
    name: &OsStr,
    path: &Path,
    content: &[u8],
    owner: &Owner,
) -> Result<(), FolderError> {
    match put_new_file(folder, name, content, owner, 0o644) {
        Err(Errno::EXIST) => Ok(()),
        done => done.map_err(|errno| FolderError::Failed { path: path.join(name), reason: errno.to_string() }),
    }
}

/// Makes a file in an opened folder and gives it to the owner through its descriptor, whole and on disk. Nobody but root
/// reads it before it has its mode.
pub(super) fn put_new_file(
    folder: &OwnedFd,
    name: &OsStr,
    content: &[u8],
    owner: &Owner,
    mode: u32,
) -> Result<(), Errno> {
    let flags = OFlags::CREATE | OFlags::EXCL | OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let file = rustix::fs::openat(folder, name, flags, Mode::from_raw_mode(0o600))?;
    let mut rest = content;
    while !rest.is_empty() {
        let written = rustix::io::write(&file, rest)?;
        rest = &rest[written..];
    }
    if owner.give {
        fchown(&file, Some(Uid::from_raw(owner.uid)), Some(Gid::from_raw(owner.gid)))?;
    }
    fchmod(&file, Mode::from_raw_mode(mode))?;
    rustix::fs::fsync(&file)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::{PermissionsExt, symlink};

    fn make(home: &Path, below: &str) -> FolderMake {
        FolderMake {
            home: home.to_path_buf(),
            below: below.into(),
            system_user: None,
            mode: 0o755,
            group: None,
            early: false,
            starter_page: Some("page".into()),
            starter_files: vec![],
        }
    }

    #[test]
    fn everything_missing_is_made_with_its_mode_and_a_page() {
        let folder = tempfile::tempdir().unwrap();
        let home = folder.path().join("bakery");
        make_folder(&make(&home, "www/crumbandtide.example")).unwrap();
        let root = home.join("www/crumbandtide.example");
        assert_eq!(fs::read_to_string(root.join("index.html")).unwrap(), "page");
        assert_eq!(fs::metadata(&home).unwrap().permissions().mode() & 0o777, 0o711);
        assert_eq!(fs::metadata(&root).unwrap().permissions().mode() & 0o777, 0o755);
        fs::write(root.join("index.html"), "theirs").unwrap();
        make_folder(&make(&home, "www/crumbandtide.example")).unwrap();
        assert_eq!(fs::read_to_string(root.join("index.html")).unwrap(), "theirs");
    }

    #[test]
    fn a_link_planted_at_any_level_leads_nowhere() {
        let folder = tempfile::tempdir().unwrap();
        let outside = folder.path().join("outside");
        fs::create_dir(&outside).unwrap();
        for level in ["bakery", "bakery/www", "bakery/www/site.example"] {
            let home = folder.path().join("bakery");
            let _ = fs::remove_file(&home);
            let _ = fs::remove_dir_all(&home);
            let link = folder.path().join(level);
            fs::create_dir_all(link.parent().unwrap()).unwrap();
            symlink(&outside, &link).unwrap();
            let refused = make_folder(&make(&home, "www/site.example"));
            assert!(matches!(refused, Err(FolderError::Link(ref path)) if *path == link), "{level}: {refused:?}");
            assert_eq!(fs::read_dir(&outside).unwrap().count(), 0, "{level}");
        }
    }

    #[test]
    fn folders_and_page_belong_to_the_system_user_and_only_root_can_give_them() {
        use std::os::unix::fs::MetadataExt;
        let folder = tempfile::tempdir().unwrap();
        let home = folder.path().join("choir");
        let user = uzers::get_user_by_name("daemon").expect("every Unix has the user daemon");
        let for_daemon = FolderMake { system_user: Some("daemon".into()), ..make(&home, "www/lanternchoir.example") };
        if rustix::process::geteuid().as_raw() != 0 {
            assert!(matches!(make_folder(&for_daemon), Err(FolderError::NotRoot(_))));
            return;
        }
        make_folder(&for_daemon).unwrap();
        for path in ["", "www", "www/lanternchoir.example", "www/lanternchoir.example/index.html"] {
            assert_eq!(fs::metadata(home.join(path)).unwrap().uid(), user.uid(), "{path}");
        }
        // A folder of somebody else on the way is neither entered nor taken over.
        fs::create_dir(home.join("foreign")).unwrap();
        std::os::unix::fs::chown(home.join("foreign"), Some(12_345), None).unwrap();
        let refused = make_folder(&FolderMake { below: "foreign/x".into(), ..for_daemon });
        assert!(matches!(refused, Err(FolderError::Foreign { uid: 12_345, .. })), "{refused:?}");
    }

    #[test]
    fn files_and_unknown_users_are_told() {
        let folder = tempfile::tempdir().unwrap();
        let home = folder.path().join("bakery");
        fs::write(&home, "").unwrap();
        assert!(matches!(make_folder(&make(&home, "www")), Err(FolderError::NotAFolder(_))));
        let nobody = FolderMake { system_user: Some("no-such-user".into()), ..make(&home, "www") };
        assert!(matches!(make_folder(&nobody), Err(FolderError::NoUser(_))));
        let upwards = make(&folder.path().join("choir"), "../x");
        assert!(matches!(make_folder(&upwards), Err(FolderError::Failed { .. })));
    }

    #[test]
    fn starter_files_are_copied_into_an_empty_folder_alone_and_links_among_them_are_left_out() {
        let folder = tempfile::tempdir().unwrap();
        let starter = folder.path().join("starter");
        fs::create_dir_all(starter.join("images")).unwrap();
        fs::write(starter.join("index.html"), "welcome").unwrap();
        fs::write(starter.join("images/logo.svg"), "<svg/>").unwrap();
        symlink("/etc/passwd", starter.join("secrets")).unwrap();
        let home = folder.path().join("home");
        let with = |below: &str| FolderMake {
            starter_files: vec![folder.path().join("none"), starter.clone()],
            ..make(&home, below)
        };
        make_folder(&with("www")).unwrap();
        assert_eq!(fs::read_to_string(home.join("www/index.html")).unwrap(), "welcome");
        assert_eq!(fs::read_to_string(home.join("www/images/logo.svg")).unwrap(), "<svg/>");
        assert!(!home.join("www/secrets").exists());
        fs::create_dir(home.join("full")).unwrap();
        fs::write(home.join("full/mine"), "mine").unwrap();
        make_folder(&with("full")).unwrap();
        assert_eq!(fs::read_dir(home.join("full")).unwrap().count(), 1);
    }

    #[test]
    fn a_link_that_is_swapped_in_while_folders_are_made_leads_nowhere() {
        use std::sync::Arc;
        use std::sync::atomic::{AtomicBool, Ordering};

        let folder = tempfile::tempdir().unwrap();
        let (home, outside) = (folder.path().join("home"), folder.path().join("outside"));
        fs::create_dir_all(&home).unwrap();
        fs::create_dir(&outside).unwrap();
        let stop = Arc::new(AtomicBool::new(false));
        let customer = {
            let (home, outside, stop) = (home.clone(), outside.clone(), Arc::clone(&stop));
            std::thread::spawn(move || {
                let (link, www) = (home.join("link"), home.join("www"));
                symlink(&outside, &link).unwrap();
                while !stop.load(Ordering::Relaxed) {
                    // A folder, a link in its place, and again.
                    let _ = fs::rename(&www, home.join("aside"));
                    let _ = symlink(&outside, &www);
                    let _ = fs::remove_file(&www);
                    let _ = fs::remove_dir_all(home.join("aside"));
                }
            })
        };
        let mut made = 0;
        for number in 0..2000 {
            made += usize::from(make_folder(&make(&home, &format!("www/site{}/pages", number % 7))).is_ok());
        }
        stop.store(true, Ordering::Relaxed);
        customer.join().unwrap();
        assert_eq!(fs::read_dir(&outside).unwrap().count(), 0, "{made} were made, none of them outside");
        assert!(made > 0);
    }
}
