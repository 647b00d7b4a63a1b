//! One command at a time orders for a site: a second one would place an order of its own, and take the first one's proofs
//! away before the CA has seen them.
//!
//! The harbor's own lock is not held while orders run, since that takes minutes; this one is, for its site alone.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::PathBuf;

use brightharbor_core::name::Host;

use super::session::CaFolder;
use crate::install::{FileError, failed};

/// Held by the file's lock, which ends with the process; the file goes when this is dropped.
pub(super) struct OrderLock {
    path: PathBuf,
    _file: File,
}

/// The file is replaced by others only when they are done: a few tries are many.
const MOST_TRIES: u32 = 100;

impl OrderLock {
    /// `None`: another command orders for the site.
    pub fn take(folder: &CaFolder, site: &Host) -> Result<Option<Self>, FileError> {
        let path = folder.orders().join(format!("{site}.lock"));
        for _ in 0..MOST_TRIES {
            let file = OpenOptions::new().create(true).write(true).truncate(false).mode(0o600).open(&path);
            let file = file.map_err(failed("cannot write", &path))?;
            match file.try_lock() {
                Ok(()) => {}
                Err(TryLockError::WouldBlock) => return Ok(None),
                Err(TryLockError::Error(error)) => return Err(failed("cannot lock", &path)(error)),
            }
            // Between opening and locking, who held it may have taken it away.
            let here = file.metadata().map_err(failed("cannot read", &path))?.ino();
            if fs::metadata(&path).is_ok_and(|there| there.ino() == here) {
                return Ok(Some(Self { path, _file: file }));
            }
        }
        Ok(None)
    }
}

impl Drop for OrderLock {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::harbor::Layout;

    #[test]
    fn one_site_is_held_by_one_and_leaves_nothing_behind() {
        let harbor = tempfile::tempdir().unwrap();
        let folder = CaFolder::new(&Layout::new(harbor.path()), "https://ca.example/directory").unwrap();
        let host = |name: &str| Host::parse(name).unwrap();
        let take = |name: &str| OrderLock::take(&folder, &host(name)).unwrap();
        let first = take("gullrock.example").unwrap();
        assert!(take("gullrock.example").is_none());
        assert!(take("lanternchoir.example").is_some(), "another site is another matter");
        drop(first);
        assert!(take("gullrock.example").is_some());
        assert_eq!(fs::read_dir(folder.orders()).unwrap().count(), 0);
        // What a killed command has left does not hold anybody up.
        fs::write(folder.orders().join("gullrock.example.lock"), "").unwrap();
        assert!(take("gullrock.example").is_some());
    }
}
