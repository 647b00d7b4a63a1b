//! The way from `/` to a folder, one component at a time, so that nobody but root and the user who runs the program has a say
//! in where it leads. A link counts where one of these two has put it; a customer's link leads nowhere.

use std::collections::VecDeque;
use std::ffi::OsString;
use std::fs::File;
use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};

use rustix::fs::{FileType, Mode, OFlags, ResolveFlags, Stat, fstat, open, openat, openat2, readlinkat};
use rustix::io::Errno;

use super::folders::FolderError;

/// Without NONBLOCK, a pipe that nobody writes to is waited for.
const READING: OFlags = OFlags::NONBLOCK.union(OFlags::NOCTTY).union(OFlags::CLOEXEC);
/// As the kernel has it (path_resolution(7)).
const MOST_LINKS: usize = 40;

/// Opens a folder. With `nobody_else`, no one but root and the user who runs the program may change anything on the way or
/// in the folder itself; a folder like `/tmp` may lie on the way.
pub(super) fn walk_to(folder: &Path, nobody_else: bool) -> Result<OwnedFd, FolderError> {
    walk(folder, if nobody_else { Others::Never } else { Others::May })
}

/// Who else may change what is on the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Others {
    May,
    /// The folder itself may be one like `/tmp`: what we have in it, nobody else can take away.
    BesideOurs,
    Never,
}

fn walk(folder: &Path, others: Others) -> Result<OwnedFd, FolderError> {
    let failed = |path: &Path, errno: Errno| FolderError::Failed { path: path.into(), reason: errno.to_string() };
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let root = open("/", flags, Mode::empty()).map_err(|errno| failed(Path::new("/"), errno))?;
    // The folders that we stand in, the last one open; `..` in a link goes back to the one before.
    let mut stack: Vec<(OwnedFd, PathBuf)> = vec![(root, "/".into())];
    let mut rest = components(folder)?;
    let mut links = 0;
    while let Some(name) = rest.pop_front() {
        if name == ".." {
            if stack.len() > 1 {
                stack.pop();
            }
            continue;
        }
        let (at, place) = stack.last().ok_or_else(|| failed(folder, Errno::INVAL))?;
        let path = place.join(&name);
        let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let found = openat(at, &name, flags, Mode::empty()).map_err(|errno| failed(&path, errno))?;
        let stat = fstat(found.as_fd()).map_err(|errno| failed(&path, errno))?;
        match FileType::from_raw_mode(stat.st_mode) {
            FileType::Directory => {
                let is_last = rest.is_empty() && others == Others::Never;
                if others != Others::May && others_may_change(&stat, is_last) {
                    return Err(FolderError::OthersMayChange(path));
                }
                stack.push((found, path));
            }
            FileType::Symlink => {
                let above = fstat(at.as_fd()).map_err(|errno| failed(place, errno))?;
                links += 1;
                if !is_trusted(above.st_uid) || !is_trusted(stat.st_uid) || links > MOST_LINKS {
                    return Err(FolderError::Link(path));
                }
                let target = readlinkat(at, &name, Vec::new()).map_err(|errno| failed(&path, errno))?;
                let target = PathBuf::from(std::ffi::OsStr::from_bytes(target.as_bytes()));
                if target.is_absolute() {
                    stack.truncate(1);
                }
                let mut way = components(&target)?;
                way.append(&mut rest);
                rest = way;
            }
            _ => return Err(FolderError::NotAFolder(path)),
        }
    }
    stack.pop().map(|(found, _)| found).ok_or_else(|| failed(folder, Errno::INVAL))
}

/// Whether root may rely on a file or folder: nobody else can change it, nor put another one in its place. Who runs the
/// program without being root can be led to nothing that it could not do itself, and is asked nothing.
pub fn rely_on(path: &Path) -> Result<(), FolderError> {
    if !rustix::process::geteuid().is_root() {
        return Ok(());
    }
    let failed = |errno: Errno| FolderError::Failed { path: path.into(), reason: errno.to_string() };
    let real = std::fs::canonicalize(path)
        .map_err(|error| FolderError::Failed { path: path.into(), reason: error.to_string() })?;
    // The way as it was given: a link on it may be somebody else's.
    let given = path.parent().filter(|above| !above.as_os_str().is_empty()).unwrap_or(&real);
    walk(given, Others::BesideOurs)?;
    let folder = walk(real.parent().unwrap_or(Path::new("/")), Others::BesideOurs)?;
    let Some(name) = real.file_name() else { return Ok(()) };
    let found =
        openat(&folder, name, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty()).map_err(failed)?;
    match others_may_change(&fstat(&found).map_err(failed)?, true) {
        true => Err(FolderError::OthersMayChange(path.into())),
        false => Ok(()),
    }
}

fn components(path: &Path) -> Result<VecDeque<OsString>, FolderError> {
    let part = |component: Component<'_>| match component {
        Component::Normal(name) => Some(name.to_os_string()),
        Component::ParentDir => Some("..".into()),
        Component::CurDir | Component::RootDir | Component::Prefix(_) => None,
    };
    match path.as_os_str().is_empty() {
        true => Err(FolderError::Failed { path: path.into(), reason: "is no path".into() }),
        false => Ok(path.components().filter_map(part).collect()),
    }
}

/// Root, and the user who runs the program.
fn is_trusted(uid: u32) -> bool {
    uid == 0 || uid == rustix::process::geteuid().as_raw()
}

/// A sticky folder that everybody may write lets nobody change what others have made in it: it may lie on the way.
fn others_may_change(stat: &Stat, is_last: bool) -> bool {
    let by_group = stat.st_mode & 0o020 != 0 && ![0, rustix::process::getegid().as_raw()].contains(&stat.st_gid);
    let by_all = stat.st_mode & 0o002 != 0;
    let sticky = stat.st_mode & 0o1000 != 0 && !is_last;
    !is_trusted(stat.st_uid) || ((by_group || by_all) && !sticky)
}

/// The same of a file below a folder, with no link on the way.
pub fn read_beneath(folder: &Path, below: &Path, most: usize) -> io::Result<Vec<u8>> {
    let folder = open(folder, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
    read_opened(open_beneath(folder.as_fd(), below, READING)?, most)
}

/// Opens what lies below a folder, with no link on the way (`LOOP`, or `NOTDIR` where a folder is wanted) and none that leads
/// out of it (`XDEV`). Where `openat2` is not to be had, the same is done a component at a time: before Linux 5.6, and below
/// a filter of system calls that cannot look into its arguments, as systemd's `RestrictSUIDSGID=` is one. `..` leads
/// nowhere then, even where it would stay below the folder.
pub(super) fn open_beneath(folder: BorrowedFd<'_>, below: &Path, flags: OFlags) -> Result<OwnedFd, Errno> {
    let flags = flags | OFlags::CLOEXEC;
    let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    match openat2(folder, below, flags, Mode::empty(), resolve) {
        Err(Errno::NOSYS) => open_stepwise(folder, below, flags),
        opened => opened,
    }
}

fn open_stepwise(folder: BorrowedFd<'_>, below: &Path, flags: OFlags) -> Result<OwnedFd, Errno> {
    let mut names = Vec::new();
    for component in below.components() {
        match component {
            Component::Normal(name) => names.push(name),
            Component::CurDir => {}
            Component::ParentDir | Component::RootDir | Component::Prefix(_) => return Err(Errno::XDEV),
        }
    }
    let last = names.pop().ok_or(Errno::NOENT)?;
    let step = OFlags::PATH | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
    let mut at: Option<OwnedFd> = None;
    for name in names {
        at = Some(openat(at.as_ref().map_or(folder, |at| at.as_fd()), name, step, Mode::empty())?);
    }
    openat(at.as_ref().map_or(folder, |at| at.as_fd()), last, flags | OFlags::NOFOLLOW, Mode::empty())
}

/// As much of a regular file as tells that it is larger. A pipe or a device is no file to read: it may never end. Nobody is
/// followed to such a thing by a link either.
pub fn read_regular(path: &Path, most: usize) -> io::Result<Vec<u8>> {
    read_opened(open(path, READING, Mode::empty())?, most)
}

fn read_opened(file: OwnedFd, most: usize) -> io::Result<Vec<u8>> {
    let file = File::from(file);
    let found = file.metadata()?;
    if !found.is_file() {
        return Err(io::Error::other("is not a regular file"));
    }
    // One byte more tells the end without another look for room: a large zone is read into one piece.
    let likely = found.len().saturating_add(1).min(most as u64);
    let mut content = Vec::with_capacity(likely as usize);
    io::Read::read_to_end(&mut io::Read::take(file, most as u64), &mut content)?;
    Ok(content)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::{PermissionsExt, chown, symlink};

    fn is_root() -> bool {
        rustix::process::geteuid().as_raw() == 0
    }

    #[test]
    fn own_links_are_followed_wherever_they_lead() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir_all(at("real/homes")).unwrap();
        symlink("real/../real/homes", at("homes")).unwrap();
        symlink(at("homes"), at("again")).unwrap();
        symlink("loop", at("loop")).unwrap();
        for name in ["real/homes", "homes", "again", "again/../homes"] {
            let found = walk_to(&at(name), true).unwrap();
            let (found, real) = (fstat(&found).unwrap(), fs::metadata(at("real/homes")).unwrap());
            assert_eq!(found.st_ino, std::os::unix::fs::MetadataExt::ino(&real), "{name}");
        }
        assert!(matches!(walk_to(&at("loop"), false), Err(FolderError::Link(_))));
        fs::write(at("file"), "").unwrap();
        assert!(matches!(walk_to(&at("file/x"), false), Err(FolderError::NotAFolder(_))));
        assert!(matches!(walk_to(&at("none"), false), Err(FolderError::Failed { .. })));
        assert!(matches!(walk_to(Path::new(""), false), Err(FolderError::Failed { .. })));
    }

    #[test]
    fn with_openat2_and_without_it_the_same_files_are_opened() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir_all(at("in/deep")).unwrap();
        fs::write(at("in/deep/file"), "tide").unwrap();
        fs::write(at("beside"), "").unwrap();
        symlink("in/deep", at("way")).unwrap();
        symlink("file", at("in/deep/link")).unwrap();
        let inside = open(folder.path(), OFlags::PATH | OFlags::DIRECTORY, Mode::empty()).unwrap();
        let read = |opened: Result<OwnedFd, Errno>| opened.map(|file| read_opened(file, 9).unwrap());
        for below in ["in/deep/file", "./in/./deep/file", "in/deep/link", "way/file", "in/../../x", "/etc/passwd", "no"]
        {
            let with = read(open_beneath(inside.as_fd(), Path::new(below), READING));
            let without = read(open_stepwise(inside.as_fd(), Path::new(below), READING));
            assert_eq!(with.is_ok(), below.ends_with("deep/file"), "{below}");
            assert_eq!(with.is_ok(), without.is_ok(), "{below}: {with:?}, {without:?}");
            assert_eq!(with.ok(), without.ok(), "{below}");
        }
        // A folder by a link is none, and that is told as such.
        let errors = |below: &str| open_stepwise(inside.as_fd(), Path::new(below), OFlags::DIRECTORY).unwrap_err();
        assert_eq!((errors("way"), errors("../x"), errors("")), (Errno::NOTDIR, Errno::XDEV, Errno::NOENT));
    }

    #[test]
    fn a_link_that_somebody_else_has_put_there_leads_nowhere() {
        if !is_root() {
            return;
        }
        let folder = tempfile::tempdir().unwrap();
        let (home, outside) = (folder.path().join("home"), folder.path().join("outside"));
        fs::create_dir(&home).unwrap();
        fs::create_dir(&outside).unwrap();
        symlink(&outside, home.join("of-root")).unwrap();
        chown(&home, Some(12_345), None).unwrap();
        let link = home.join("of-root");
        assert!(matches!(walk_to(&link, false), Err(FolderError::Link(path)) if path == link));
        // In a folder for everybody, only our own links count.
        let all = folder.path().join("all");
        fs::create_dir(&all).unwrap();
        fs::set_permissions(&all, fs::Permissions::from_mode(0o1777)).unwrap();
        symlink(&outside, all.join("ours")).unwrap();
        symlink(&outside, all.join("theirs")).unwrap();
        std::os::unix::fs::lchown(all.join("theirs"), Some(12_345), None).unwrap();
        assert!(walk_to(&all.join("ours"), true).is_ok());
        assert!(matches!(walk_to(&all.join("theirs"), true), Err(FolderError::Link(_))));
    }

    #[test]
    fn a_way_that_others_may_change_is_refused_where_nobody_else_may() {
        let folder = tempfile::tempdir().unwrap();
        let parent = folder.path().join("parent");
        fs::create_dir_all(parent.join("child")).unwrap();
        let refused = |mode: u32, path: &Path| {
            fs::set_permissions(&parent, fs::Permissions::from_mode(mode)).unwrap();
            matches!(walk_to(path, true), Err(FolderError::OthersMayChange(path)) if path == parent)
        };
        assert!(!refused(0o755, &parent) && !refused(0o1777, &parent.join("child")));
        assert!(refused(0o757, &parent) && refused(0o757, &parent.join("child")) && refused(0o1777, &parent));
        assert!(walk_to(&parent, false).is_ok());
        assert!(!refused(0o775, &parent), "the group is our own");
        if is_root() {
            chown(&parent, None, Some(12_345)).unwrap();
            assert!(refused(0o775, &parent));
            chown(&parent, Some(12_345), None).unwrap();
            assert!(refused(0o755, &parent));
        }
    }

    #[test]
    fn root_relies_on_nothing_that_others_could_change() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        fs::create_dir(at("harbor")).unwrap();
        fs::write(at("harbor/harbor.toml"), "").unwrap();
        symlink(at("harbor"), at("link")).unwrap();
        for name in ["harbor", "harbor/harbor.toml", "link", "link/harbor.toml"] {
            rely_on(&at(name)).unwrap();
        }
        if !is_root() {
            return;
        }
        let refused = |name: &str| matches!(rely_on(&at(name)), Err(FolderError::OthersMayChange(_)));
        fs::set_permissions(at("harbor/harbor.toml"), fs::Permissions::from_mode(0o666)).unwrap();
        assert!(refused("harbor/harbor.toml") && refused("link/harbor.toml") && !refused("harbor"));
        fs::set_permissions(at("harbor/harbor.toml"), fs::Permissions::from_mode(0o644)).unwrap();
        fs::set_permissions(at("harbor"), fs::Permissions::from_mode(0o1777)).unwrap();
        assert!(refused("harbor") && !refused("harbor/harbor.toml"), "a file of ours in a folder for everybody");
        fs::set_permissions(at("harbor"), fs::Permissions::from_mode(0o755)).unwrap();
        chown(at("harbor"), Some(12_345), None).unwrap();
        assert!(refused("harbor") && refused("harbor/harbor.toml") && refused("link"));
        std::os::unix::fs::lchown(at("link"), Some(12_345), None).unwrap();
        chown(at("harbor"), Some(0), None).unwrap();
        assert!(!refused("link/harbor.toml"), "a link in a folder of root's, made by root");
    }

    #[test]
    fn pipes_and_devices_are_no_files_to_read() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join("pipe");
        rustix::fs::mknodat(rustix::fs::CWD, &pipe, FileType::Fifo, Mode::from_raw_mode(0o600), 0).unwrap();
        for path in [&pipe, Path::new("/dev/zero"), folder.path()] {
            assert!(read_regular(path, 10).is_err(), "{}", path.display());
        }
        let file = folder.path().join("file");
        fs::write(&file, "0123456789abc").unwrap();
        assert_eq!(read_regular(&file, 10).unwrap(), b"0123456789");
    }
}
