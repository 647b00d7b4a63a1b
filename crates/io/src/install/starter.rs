//! Starter files: an administrator's own folder, copied into a new document root. The source is trusted and its links
//! are left out all the same; the destination is a customer's, and is only entered through opened folders.

use std::ffi::OsStr;
use std::fs;
use std::os::fd::OwnedFd;
use std::path::Path;

use super::folders::{FolderError, Owner, enter, put_file};

/// More than this is no starter page.
const MOST_FILES: usize = 1000;
const MOST_BYTES: u64 = 64 << 20;

/// Copies everything below `from` into the opened folder.
pub(super) fn copy_starter_files(into: &OwnedFd, path: &Path, from: &Path, owner: &Owner) -> Result<(), FolderError> {
    let mut left = (MOST_FILES, MOST_BYTES);
    copy(into, path, from, owner, &mut left)
}

fn copy(into: &OwnedFd, path: &Path, from: &Path, owner: &Owner, left: &mut (usize, u64)) -> Result<(), FolderError> {
    let failed = |error: std::io::Error| FolderError::Failed { path: from.to_path_buf(), reason: error.to_string() };
    let mut names: Vec<_> = fs::read_dir(from).map_err(failed)?.flatten().map(|entry| entry.file_name()).collect();
    names.sort();
    for name in names {
        let source = from.join(&name);
        let metadata = fs::symlink_metadata(&source).map_err(failed)?;
        if metadata.is_dir() {
            let below = enter(into, OsStr::new(&name), &path.join(&name), 0o755, owner)?;
            copy(&below, &path.join(&name), &source, owner, left)?;
        } else if metadata.is_file() {
            *left = match (left.0.checked_sub(1), left.1.checked_sub(metadata.len())) {
                (Some(files), Some(bytes)) => (files, bytes),
                _ => {
                    let reason = format!("has more than {MOST_FILES} files or {} MiB", MOST_BYTES >> 20);
                    return Err(FolderError::Failed { path: from.to_path_buf(), reason });
                }
            };
            put_file(into, OsStr::new(&name), path, &fs::read(&source).map_err(failed)?, owner)?;
        }
    }
    Ok(())
}
