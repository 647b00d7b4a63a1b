//! Files, replaced atomically: a crash at any moment leaves the old one or the new one, whole.

use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::panic::resume_unwind;
use std::path::{Path, PathBuf};

use super::attributes;
use super::walk::read_regular;

/// How the name of a file begins that is not in place yet; no server reads such files.
pub(crate) const UNFINISHED: &str = ".new-";

#[derive(Debug, thiserror::Error)]
#[error("{what} {path}: {error}")]
pub struct FileError {
    pub what: &'static str,
    pub path: PathBuf,
    pub error: io::Error,
}

pub(crate) fn failed(what: &'static str, path: &Path) -> impl FnOnce(io::Error) -> FileError {
    let path = path.to_path_buf();
    move |error| FileError { what, path, error }
}

/// More than this is none of our files, in bytes.
const MOST_BYTES: usize = 256 << 20;

/// The content of a regular file of a size that a zone or a site can have; `None` if there is none.
pub fn read_if_there(path: &Path) -> Result<Option<Vec<u8>>, FileError> {
    match read_regular(path, MOST_BYTES + 1) {
        Ok(content) if content.len() > MOST_BYTES => {
            let large = io::Error::other(format!("is larger than {} MiB", MOST_BYTES >> 20));
            Err(failed("cannot read", path)(large))
        }
        Ok(content) => Ok(Some(content)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(failed("cannot read", path)(error)),
    }
}

/// As much of a file as tells that it is larger, in bytes.
pub fn read_at_most(path: &Path, bytes: usize) -> io::Result<Vec<u8>> {
    let mut content = Vec::new();
    File::open(path)?.take(bytes as u64).read_to_end(&mut content)?;
    Ok(content)
}

/// Writes a file under another name beside it, forces it to disk, and renames it into place.
pub fn write_atomically(path: &Path, content: &[u8], mode: u32) -> Result<(), FileError> {
    finish(written_beside(path, content, mode)?, path)
}

/// The folder that a file lies in; a name alone lies in the current one.
fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        None => Path::new("/"),
        Some(folder) if folder.as_os_str().is_empty() => Path::new("."),
        Some(folder) => folder,
    }
}

fn finish(file: tempfile::NamedTempFile, path: &Path) -> Result<(), FileError> {
    file.as_file().sync_all().map_err(failed("cannot write to disk", path))?;
    file.persist(path).map_err(|error| failed("cannot replace", path)(error.error))?;
    sync_folder(folder_of(path))
}

/// Writes a file that nobody reads until the caller has said that it is there. What is cut off stays under its own name,
/// where the next run finds it. It may be lost with the power.
pub fn write_in_place(path: &Path, content: &[u8], mode: u32) -> Result<(), FileError> {
    // Somebody may be reading what an earlier run has put there.
    if read_if_there(path)?.as_deref() == Some(content) {
        return Ok(());
    }
    let mut file = File::create(path).map_err(failed("cannot write", path))?;
    file.write_all(content).map_err(failed("cannot write", path))?;
    // The mode given to the file's creation is cut by the umask.
    file.set_permissions(fs::Permissions::from_mode(mode)).map_err(failed("cannot set the mode of", path))
}

pub(super) fn written_beside(path: &Path, content: &[u8], mode: u32) -> Result<tempfile::NamedTempFile, FileError> {
    let folder = folder_of(path);
    let mut file = tempfile::Builder::new()
        .prefix(UNFINISHED)
        .permissions(fs::Permissions::from_mode(mode))
        .tempfile_in(folder)
        .map_err(failed("cannot write beside", path))?;
    file.write_all(content).map_err(failed("cannot write", path))?;
    // The mode given to the file's creation is cut by the umask.
    file.as_file().set_permissions(fs::Permissions::from_mode(mode)).map_err(failed("cannot set the mode of", path))?;
    Ok(file)
}

/// Where a file is, behind whatever links lead there, with its mode.
pub fn place_and_mode(path: &Path) -> Result<(PathBuf, u32), FileError> {
    let place = fs::canonicalize(path).map_err(failed("cannot find", path))?;
    let mode = fs::metadata(&place).map_err(failed("cannot look at", &place))?.permissions().mode() & 0o7777;
    Ok((place, mode))
}

/// Where a file is that keeps what it has: behind the link, where one leads to it from the harbor.
pub(super) fn behind_link(path: &Path) -> Result<PathBuf, FileError> {
    match path.is_symlink() {
        true => fs::canonicalize(path).map_err(failed("cannot find", path)),
        false => Ok(path.to_path_buf()),
    }
}

/// The same for a file that is there: the new one has its owner, its group, its mode and its extended attributes.
pub(crate) fn write_in_its_place(path: &Path, content: &[u8], mode: u32) -> Result<(), FileError> {
    let path = &behind_link(path)?;
    let file = written_beside(path, content, mode)?;
    if path.exists() {
        attributes::keep(path, file.as_file(), true)?;
    }
    finish(file, path)
}

/// Puts a link where nothing is.
pub(crate) fn link(path: &Path, to: &Path) -> Result<(), FileError> {
    std::os::unix::fs::symlink(to, path).map_err(failed("cannot make the link", path))?;
    sync_folder(folder_of(path))
}

/// Where a link leads to, if it is one.
pub fn link_target(path: &Path) -> Option<PathBuf> {
    fs::read_link(path).ok()
}

/// Replaces a file that is still as it was read, keeping its owner, group, mode and extended attributes. An edit by somebody
/// else in between is an error.
pub fn replace_if_unchanged(path: &Path, before: &[u8], content: &[u8]) -> Result<(), FileError> {
    // What a link points to is replaced, not the link.
    let (path, mode) = place_and_mode(path)?;
    let file = written_beside(&path, content, mode)?;
    attributes::keep(&path, file.as_file(), true)?;
    // The disk takes its time for a large one: meanwhile it is looked whether the old one is as it was.
    let (written, unchanged) = std::thread::scope(|scope| {
        let writing = std::thread::Builder::new().spawn_scoped(scope, || file.as_file().sync_all());
        let unchanged = has_content(&path, before);
        // Without a thread, `finish` waits for it; what goes wrong is told once, to whoever asks first.
        let written = writing.map_or(Ok(()), |writing| writing.join().unwrap_or_else(|panic| resume_unwind(panic)));
        (written, unchanged)
    });
    written.map_err(failed("cannot write to disk", &path))?;
    if !unchanged.map_err(failed("cannot read", &path))? {
        let changed = io::Error::other("it has been changed by somebody else since it was read; nothing was done");
        return Err(failed("cannot replace", &path)(changed));
    }
    finish(file, &path)
}

/// Whether this is what stands in a file, which may be too large to be had twice.
fn has_content(path: &Path, content: &[u8]) -> io::Result<bool> {
    let (mut file, mut rest, mut piece) = (File::open(path)?, content, vec![0; 1 << 16]);
    loop {
        match file.read(&mut piece) {
            Ok(0) => return Ok(rest.is_empty()),
            Ok(count) if !rest.starts_with(&piece[..count]) => return Ok(false),
            Ok(count) => rest = &rest[count..],
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
}

/// Removes a file, and has the removal on disk.
pub(crate) fn remove(path: &Path) -> Result<(), FileError> {
    match fs::remove_file(path) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => Err(failed("cannot remove", path)(error)),
        _ => sync_folder(folder_of(path)),
    }
}

pub(crate) fn sync_folder(folder: &Path) -> Result<(), FileError> {
    File::open(folder).and_then(|folder| folder.sync_all()).map_err(failed("cannot write to disk", folder))
}

/// Makes a folder that only its owner may enter, and those above it that are missing.
pub fn make_private_folder(path: &Path) -> Result<(), FileError> {
    let missing: Vec<&Path> = path.ancestors().take_while(|above| !above.exists()).collect();
    fs::DirBuilder::new().recursive(true).mode(0o700).create(path).map_err(failed("cannot make", path))?;
    // A folder is on disk once the one above it is.
    for made in missing.into_iter().rev() {
        sync_folder(made.parent().unwrap_or(Path::new("/")))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::MetadataExt;

    #[test]
    fn a_file_written_in_place_is_made_whole_and_one_that_is_whole_is_not_touched() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("token");
        fs::write(&path, "tok").unwrap();
        write_in_place(&path, b"token.print", 0o644).unwrap();
        assert_eq!(fs::read(&path).unwrap(), b"token.print");
        let before = fs::metadata(&path).unwrap();
        assert_eq!(before.mode() & 0o7777, 0o644);
        write_in_place(&path, b"token.print", 0o644).unwrap();
        assert_eq!(fs::metadata(&path).unwrap().mtime_nsec(), before.mtime_nsec());
        let error = write_in_place(&folder.path().join("none/token"), b"", 0o644).unwrap_err();
        assert!(error.to_string().contains("none/token"), "{error}");
    }

    #[test]
    fn what_is_no_file_of_a_bounded_size_is_not_read() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("large");
        let file = File::create(&path).unwrap();
        file.set_len(MOST_BYTES as u64 + 1).unwrap();
        assert!(read_if_there(&path).unwrap_err().to_string().contains("is larger than 256 MiB"));
        assert!(read_if_there(Path::new("/dev/zero")).unwrap_err().to_string().contains("not a regular file"));
        assert!(read_if_there(folder.path()).is_err());
    }

    #[test]
    fn a_file_is_replaced_whole_with_its_mode_and_nothing_is_left_beside_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("key.pem");
        assert_eq!(read_if_there(&path).unwrap(), None);
        write_atomically(&path, b"one", 0o644).unwrap();
        write_atomically(&path, b"two", 0o600).unwrap();
        assert_eq!(read_if_there(&path).unwrap().as_deref(), Some(&b"two"[..]));
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o7777, 0o600);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 1);
        write_atomically(&path, b"three", 0o640).unwrap();
        assert!(replace_if_unchanged(&path, b"two", b"four").unwrap_err().to_string().contains("somebody else"));
        replace_if_unchanged(&path, b"three", b"four").unwrap();
        assert_eq!(fs::metadata(&path).unwrap().mode() & 0o7777, 0o640, "the mode is kept");
        remove(&path).unwrap();
        remove(&path).unwrap();
        let error = write_atomically(&folder.path().join("none/key.pem"), b"", 0o600).unwrap_err();
        assert!(error.to_string().contains("none/key.pem"), "{error}");
    }
}
