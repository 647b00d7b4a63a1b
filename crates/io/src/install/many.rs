//! Many files at once, each replaced atomically as `files` does it, in their order. The disk is waited for by several
//! threads side by side: one after the other, a thousand files would take as many times its pause.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::Mutex;

use super::attributes;
use super::files::{FileError, behind_link, failed, sync_folder, written_beside};

/// Waits side by side. The disk joins what is asked for at the same time.
const THREADS: usize = 16;
/// Files that are open at once.
const MOST_OPEN: usize = 128;

/// A file to be written.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Wanted<'a> {
    pub path: &'a Path,
    pub content: &'a [u8],
    pub mode: u32,
    /// Whether owner, group, mode and extended attributes of a file that is there stay as they are; and a link that leads to it.
    pub keep: bool,
}

/// Writes the files. A crash leaves each of them as it was or as it will be; those that come first are in place first.
/// An error may leave some of them written.
pub(crate) fn write_all_atomically(files: &[Wanted<'_>]) -> Result<(), FileError> {
    for part in files.chunks(MOST_OPEN) {
        let mut beside = Vec::with_capacity(part.len());
        for file in part {
            let place = if file.keep { behind_link(file.path)? } else { file.path.to_path_buf() };
            let written = written_beside(&place, file.content, file.mode)?;
            if file.keep && place.exists() {
                attributes::keep(&place, written.as_file(), true)?;
            }
            beside.push((place, written));
        }
        side_by_side(&beside, |(path, file)| file.as_file().sync_all().map_err(failed("cannot write to disk", path)))?;
        let mut folders = BTreeSet::new();
        for (path, file) in beside {
            file.persist(&path).map_err(|error| failed("cannot replace", &path)(error.error))?;
            folders.insert(path.parent().unwrap_or(Path::new("/")).to_path_buf());
        }
        let folders: Vec<PathBuf> = folders.into_iter().collect();
        side_by_side(&folders, |folder| sync_folder(folder))?;
    }
    Ok(())
}

fn side_by_side<T: Sync>(things: &[T], work: impl Fn(&T) -> Result<(), FileError> + Sync) -> Result<(), FileError> {
    if things.len() < 2 {
        return things.iter().try_for_each(work);
    }
    let first: Mutex<Option<FileError>> = Mutex::new(None);
    std::thread::scope(|scope| {
        for part in things.chunks(things.len().div_ceil(THREADS)) {
            let do_part = || {
                if let Err(error) = part.iter().try_for_each(&work) {
                    first.lock().unwrap_or_else(std::sync::PoisonError::into_inner).get_or_insert(error);
                }
            };
            // A system that is out of threads has it done here.
            if std::thread::Builder::new().spawn_scoped(scope, do_part).is_err() {
                do_part();
            }
        }
    });
    first.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner).map_or(Ok(()), Err)
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::{MetadataExt, PermissionsExt};

    use super::*;

    #[test]
    fn a_file_that_is_to_keep_what_it_has_keeps_its_mode_and_owner() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.zone");
        let mode_after = |keep: bool| {
            fs::write(&path, "one").unwrap();
            fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
            let wanted = Wanted { path: &path, content: b"two", mode: 0o644, keep };
            write_all_atomically(&[wanted]).unwrap();
            assert_eq!(fs::read(&path).unwrap(), b"two");
            fs::metadata(&path).unwrap().mode() & 0o777
        };
        assert_eq!((mode_after(true), mode_after(false)), (0o640, 0o644));
        if rustix::process::geteuid().is_root() {
            std::os::unix::fs::chown(&path, Some(4321), Some(1234)).unwrap();
            assert_eq!(mode_after(true), 0o640);
            let now = fs::metadata(&path).unwrap();
            assert_eq!((now.uid(), now.gid()), (4321, 1234));
        }
    }

    #[test]
    fn a_link_that_leads_to_a_kept_file_stays_and_the_file_changes() {
        let folder = tempfile::tempdir().unwrap();
        let (link, file) = (folder.path().join("a.zone"), folder.path().join("db.a"));
        fs::write(&file, "one").unwrap();
        super::super::files::link(&link, &file).unwrap();
        write_all_atomically(&[Wanted { path: &link, content: b"two", mode: 0o644, keep: true }]).unwrap();
        assert_eq!((fs::read(&file).unwrap(), fs::read_link(&link).unwrap()), (b"two".to_vec(), file.clone()));
        super::super::files::write_in_its_place(&link, b"three", 0o600).unwrap();
        assert_eq!((fs::read(&file).unwrap(), fs::read_link(&link).unwrap()), (b"three".to_vec(), file.clone()));
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o644, "its mode stays");
        fs::remove_file(&file).unwrap();
        let lost = write_all_atomically(&[Wanted { path: &link, content: b"x", mode: 0o644, keep: true }]);
        assert!(lost.unwrap_err().to_string().contains("a.zone"), "a link to nothing is told");
    }

    #[test]
    fn many_files_are_replaced_whole_and_nothing_is_left_beside_them() {
        let folder = tempfile::tempdir().unwrap();
        let names: Vec<_> = (0..300).map(|number| folder.path().join(format!("{:02}/{number}", number % 7))).collect();
        for number in 0..7 {
            fs::create_dir(folder.path().join(format!("{number:02}"))).unwrap();
        }
        for content in [&b"one"[..], b"two"] {
            let all: Vec<_> = names.iter().map(|path| Wanted { path, content, mode: 0o640, keep: false }).collect();
            write_all_atomically(&all).unwrap();
        }
        for path in &names {
            assert_eq!(
                (fs::read(path).unwrap(), fs::metadata(path).unwrap().mode() & 0o7777),
                (b"two".to_vec(), 0o640)
            );
        }
        let left: usize = (0..7).map(|n| fs::read_dir(folder.path().join(format!("{n:02}"))).unwrap().count()).sum();
        assert_eq!(left, 300);
        write_all_atomically(&[]).unwrap();
    }

    #[test]
    fn what_cannot_be_written_is_named_and_leaves_no_file_behind() {
        let folder = tempfile::tempdir().unwrap();
        let (good, bad) = (folder.path().join("good"), folder.path().join("none/bad"));
        let wanted = |path| Wanted { path, content: b"x", mode: 0o600, keep: false };
        let error = write_all_atomically(&[wanted(&good), wanted(&bad)]).unwrap_err();
        assert!(error.to_string().contains("none/bad"), "{error}");
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
    }
}
