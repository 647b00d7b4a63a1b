//! A copy of the inventory for each day, made while commands go on (SQLite's online backup), and the way back to one.

use std::fs;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use rusqlite::backup::Backup;
use rusqlite::{Connection, OpenFlags};

use super::{Store, StoreError, damage};
use crate::install::{FileError, UNFINISHED, failed, make_private_folder, sync_folder};

/// Days that are kept.
const KEPT: usize = 7;
const PAGES_AT_ONCE: i32 = 1_000;

#[derive(Debug, thiserror::Error)]
pub enum BackupError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    File(#[from] FileError),
}

impl Store {
    /// Copies the inventory, once a day and only if it is sound, and lets the oldest copies go. Gives the new one.
    pub fn back_up_daily(&self, now: Timestamp) -> Result<Option<PathBuf>, BackupError> {
        let folder = folder_of(self.path.parent().unwrap_or(&self.path));
        let day = now.to_zoned(TimeZone::UTC).date();
        let copy = folder.join(format!("inventory-{day}.sqlite"));
        clear_unfinished(&folder);
        if copy.exists() {
            return Ok(None);
        }
        // A copy of what is damaged would push a sound one out.
        self.check_thoroughly()?;
        make_private_folder(&folder)?;
        let unfinished = folder.join(format!("{UNFINISHED}{day}"));
        let copied = self.copy_to(&unfinished).and_then(|()| {
            fs::rename(&unfinished, &copy).map_err(failed("cannot replace", &copy)).map_err(BackupError::from)
        });
        clear_unfinished(&folder);
        copied?;
        sync_folder(&folder)?;
        for old in copies(&folder).into_iter().rev().skip(KEPT) {
            fs::remove_file(&old).map_err(failed("cannot remove", &old))?;
        }
        Ok(Some(copy))
    }

    /// Copies an inventory that is about to be brought up to date, for somebody who goes back to the former program. It is
    /// never cleared away.
    pub(super) fn keep_as_before(&self, version: i64) -> Result<(), BackupError> {
        let folder = folder_of(self.path.parent().unwrap_or(&self.path));
        let copy = folder.join(format!("of-version-{version}.sqlite"));
        if copy.exists() {
            return Ok(());
        }
        make_private_folder(&folder)?;
        let unfinished = folder.join(format!("{UNFINISHED}of-version-{version}-{}", std::process::id()));
        self.copy_to(&unfinished)?;
        fs::rename(&unfinished, &copy).map_err(failed("cannot replace", &copy))?;
        sync_folder(&folder)?;
        Ok(())
    }

    fn copy_to(&self, path: &Path) -> Result<(), BackupError> {
        // SQLite would give it the mode that the umask leaves.
        let private = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path);
        private.map_err(failed("cannot make", path))?;
        self.fill(path)?;
        Ok(())
    }

    fn fill(&self, path: &Path) -> Result<(), StoreError> {
        let mut copy = Connection::open(path)?;
        Backup::new(&self.connection, &mut copy)?.run_to_completion(PAGES_AT_ONCE, Duration::ZERO, None)?;
        // One file by itself, with nothing beside it.
        copy.pragma_update(None, "journal_mode", "DELETE")?;
        Ok(())
    }
}

/// What SQLite or a kill has left of a copy that was not finished, its journals included; a finished one needs none.
fn clear_unfinished(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        if entry.file_name().to_string_lossy().starts_with(UNFINISHED) {
            let _ = fs::remove_file(entry.path());
        }
    }
}

fn folder_of(root: &Path) -> PathBuf {
    root.join("backups")
}

/// The oldest first: their names are dates.
fn copies(folder: &Path) -> Vec<PathBuf> {
    let is_copy = |path: &PathBuf| {
        let name = path.file_name().unwrap_or_default().to_string_lossy();
        name.starts_with("inventory-") && name.ends_with(".sqlite")
    };
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let mut all: Vec<PathBuf> = entries.map(|entry| entry.path()).filter(is_copy).collect();
    all.sort();
    all
}

/// The newest backup that can be read through.
pub fn newest_sound(root: &Path) -> Option<PathBuf> {
    let is_sound = |path: &PathBuf| {
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        Connection::open_with_flags(path, flags).is_ok_and(|copy| damage::is_whole(&copy))
    };
    copies(&folder_of(root)).into_iter().rev().find(is_sound)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn a_copy_is_made_once_a_day_and_a_week_is_kept() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::create(&folder.path().join("inventory.sqlite")).unwrap();
        for day in 10..20 {
            let made = store.back_up_daily(at(&format!("2026-11-{day}T01:00:00Z"))).unwrap().unwrap();
            assert_eq!(fs::metadata(&made).unwrap().permissions().mode() & 0o077, 0);
            // What SQLite could not take away, or a kill has left.
            fs::write(folder.path().join("backups/.new-2026-11-09-journal"), "half").unwrap();
            assert_eq!(store.back_up_daily(at(&format!("2026-11-{day}T23:00:00Z"))).unwrap(), None);
        }
        let kept = copies(&folder.path().join("backups"));
        assert_eq!(kept.len(), KEPT);
        assert!(kept[0].ends_with("inventory-2026-11-13.sqlite"), "{kept:?}");
        let newest = newest_sound(folder.path()).unwrap();
        assert_eq!(Some(&newest), kept.last());
        fs::write(&newest, "spoilt").unwrap();
        assert_eq!(newest_sound(folder.path()).as_ref(), kept.iter().rev().nth(1), "the newest that is sound");
        assert_eq!(fs::read_dir(folder.path().join("backups")).unwrap().count(), KEPT, "nothing beside them");
    }

    #[test]
    fn a_large_inventory_that_was_cut_off_is_recognised() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("inventory.sqlite");
        let store = Store::create(&path).unwrap();
        store
            .connection
            .execute_batch("CREATE TABLE ballast (x); INSERT INTO ballast VALUES (randomblob(2000000));")
            .unwrap();
        drop(store);
        Store::open(&path).unwrap();
        let size = fs::metadata(&path).unwrap().len();
        assert!(size > 1 << 20, "{size}: no quick check of all of it");
        fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(size - 4096).unwrap();
        assert!(matches!(Store::open(&path), Err(StoreError::Damaged { .. })));
    }

    #[test]
    fn damage_is_told_with_the_backup_and_is_not_copied() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("inventory.sqlite");
        let store = Store::create(&path).unwrap();
        let backup = store.back_up_daily(at("2026-11-26T01:00:00Z")).unwrap();
        drop(store);
        let sound = fs::read(&path).unwrap();
        let spoilt = [
            b"no database at all".to_vec(),
            sound[..sound.len() / 2].to_vec(),
            [&sound[..100], &vec![0xff; sound.len() - 100][..]].concat(),
        ];
        for content in spoilt {
            fs::write(&path, content).unwrap();
            match Store::open(&path) {
                Err(StoreError::Damaged { inventory, backup: found, .. }) => {
                    assert_eq!((inventory, found), (path.clone(), backup.clone()));
                }
                other => panic!("{:?}", other.map(|_| ())),
            }
        }
        fs::write(&path, &sound).unwrap();
        Store::open(&path).unwrap().check_thoroughly().unwrap();
    }
}
