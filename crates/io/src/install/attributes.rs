//! What a file has beside its content: owner, group, mode, extended attributes with access lists among them. A file that takes
//! the place of another one gets them, so that nobody loses it by an edit. And one edit at a time of files that no harbor
//! locks.

use std::fs::File;
use std::io;
use std::os::unix::fs::{MetadataExt, PermissionsExt, fchown};
use std::path::Path;
use std::time::{Duration, Instant};

use rustix::fs::{FlockOperation, XattrFlags, fgetxattr, flistxattr, flock, fsetxattr};

use super::files::{FileError, failed};

/// Gives `file` what `present` has; its mode only where `mode` says so.
pub(super) fn keep(present: &Path, file: &File, mode: bool) -> Result<(), FileError> {
    let old = File::open(present).map_err(failed("cannot read", present))?;
    let (had, has) = (old.metadata(), file.metadata());
    let (had, has) = (had.map_err(failed("cannot look at", present))?, has.map_err(failed("cannot look at", present))?);
    if (had.uid(), had.gid()) != (has.uid(), has.gid()) {
        fchown(file, Some(had.uid()), Some(had.gid()))
            .map_err(failed("cannot keep the owner and group of", present))?;
    }
    if mode {
        let permissions = std::fs::Permissions::from_mode(had.mode() & 0o7777);
        file.set_permissions(permissions).map_err(failed("cannot keep the mode of", present))?;
    }
    // Access lists narrow or widen the mode: they come last.
    copy_extended(&old, file).map_err(failed("cannot keep the extended attributes of", present))
}

fn copy_extended(old: &File, new: &File) -> io::Result<()> {
    let mut names = vec![0; 64 << 10];
    let length = match flistxattr(old, &mut names[..]) {
        Ok(length) => length,
        // A file system without them.
        Err(rustix::io::Errno::NOTSUP) => return Ok(()),
        Err(error) => return Err(error.into()),
    };
    let mut value = vec![0; 64 << 10];
    for name in names[..length].split(|byte| *byte == 0).filter(|name| !name.is_empty()) {
        let size = fgetxattr(old, name, &mut value[..])?;
        match fsetxattr(new, name, &value[..size], XattrFlags::empty()) {
            // Labels of the system are set by the system where we may not.
            Err(rustix::io::Errno::PERM | rustix::io::Errno::ACCESS) if !name.starts_with(b"user.") => {}
            other => other?,
        }
    }
    Ok(())
}

/// While it is held, other edits in the same folder wait. Nothing is left behind: the folder itself is locked.
#[derive(Debug)]
pub struct OneEdit {
    _folder: File,
}

/// Edits last milliseconds.
const PATIENCE: Duration = Duration::from_secs(60);

/// Waits until nobody else edits a file of that folder.
pub fn one_edit_at_a_time(path: &Path) -> Result<OneEdit, FileError> {
    // Behind a link, as the edit goes there.
    let place = std::fs::canonicalize(path).map_err(failed("cannot find", path))?;
    let folder = place.parent().unwrap_or(Path::new("/"));
    let opened = File::open(folder).map_err(failed("cannot open the folder", folder))?;
    let started = Instant::now();
    loop {
        match flock(&opened, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => return Ok(OneEdit { _folder: opened }),
            Err(rustix::io::Errno::WOULDBLOCK) if started.elapsed() < PATIENCE => {
                std::thread::sleep(Duration::from_millis(5));
            }
            Err(rustix::io::Errno::WOULDBLOCK) => {
                let held = io::Error::other(format!("another edit has gone on for {} s", PATIENCE.as_secs()));
                return Err(failed("cannot edit files in", folder)(held));
            }
            Err(error) => return Err(failed("cannot lock", folder)(error.into())),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::install::files::{replace_if_unchanged, write_atomically};
    use std::fs;

    #[test]
    fn what_takes_the_place_of_a_file_has_its_owner_mode_and_attributes() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.zone");
        write_atomically(&path, b"one", 0o640).unwrap();
        let root = rustix::process::geteuid().is_root();
        if root {
            std::os::unix::fs::chown(&path, Some(12_345), Some(54_321)).unwrap();
        }
        let marked = fsetxattr(File::open(&path).unwrap(), "user.harbor", b"kept", XattrFlags::empty()).is_ok();
        replace_if_unchanged(&path, b"one", b"two").unwrap();
        let after = fs::metadata(&path).unwrap();
        assert_eq!((after.mode() & 0o7777, fs::read(&path).unwrap()), (0o640, b"two".to_vec()));
        if root {
            assert_eq!((after.uid(), after.gid()), (12_345, 54_321));
        }
        if marked {
            let mut value = [0; 16];
            let size = fgetxattr(File::open(&path).unwrap(), "user.harbor", &mut value[..]).unwrap();
            assert_eq!(&value[..size], b"kept");
        }
    }

    #[test]
    fn edits_in_one_folder_wait_for_each_other() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("count");
        fs::write(&path, "0").unwrap();
        std::thread::scope(|scope| {
            for _ in 0..20 {
                scope.spawn(|| {
                    let _held = one_edit_at_a_time(&path).unwrap();
                    let before = fs::read(&path).unwrap();
                    let next = std::str::from_utf8(&before).unwrap().parse::<u32>().unwrap() + 1;
                    replace_if_unchanged(&path, &before, next.to_string().as_bytes()).unwrap();
                });
            }
        });
        assert_eq!(fs::read_to_string(&path).unwrap(), "20");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1, "nothing is left beside it");
    }
}
