//! Whether the inventory is damaged: a quick look at every opening, a thorough one when asked for.

use std::path::Path;

use rusqlite::{Connection, ErrorCode};

use super::{Store, StoreError, newest_sound};

/// An inventory up to this size, in bytes, is looked through at every opening: it takes one to three milliseconds.
const QUICKLY: u64 = 512 << 10;

impl From<rusqlite::Error> for StoreError {
    fn from(error: rusqlite::Error) -> Self {
        match error.sqlite_error_code() {
            Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
                StoreError::Damaged { inventory: Default::default(), reason: error.to_string(), backup: None }
            }
            _ => StoreError::Sqlite(error),
        }
    }
}

/// The same error with the place of the inventory, and the backup to go back to.
pub(super) fn told(error: StoreError, path: &Path) -> StoreError {
    match error {
        StoreError::Damaged { reason, .. } => {
            let backup = newest_sound(path.parent().unwrap_or(path));
            StoreError::Damaged { inventory: path.to_path_buf(), reason, backup }
        }
        error => error,
    }
}

/// A small inventory is looked through; of a large one, what stands at its head. SQLite itself compares the size.
pub(super) fn look_quickly(connection: &Connection, path: &Path) -> Result<(), StoreError> {
    let tables = "SELECT count(*) FROM sqlite_master WHERE name IN ('account', 'site', 'zone')";
    if connection.query_row(tables, [], |row| row.get::<_, i64>(0))? < 3 {
        return Err(damaged("tables are missing".into()));
    }
    let size = std::fs::metadata(path).map_or(0, |found| found.len());
    if size <= QUICKLY { found(connection, "PRAGMA quick_check(1)") } else { Ok(()) }
}

fn damaged(reason: String) -> StoreError {
    StoreError::Damaged { inventory: Default::default(), reason, backup: None }
}

fn found(connection: &Connection, check: &str) -> Result<(), StoreError> {
    let said: String = connection.query_row(check, [], |row| row.get(0))?;
    if said == "ok" { Ok(()) } else { Err(damaged(said.replace('\n', "; "))) }
}

/// Whether a copy can be read through.
pub(super) fn is_whole(connection: &Connection) -> bool {
    found(connection, "PRAGMA integrity_check(1)").is_ok()
}

impl Store {
    /// Looks through all of it, indexes and references between tables included. Takes seconds for a large harbor.
    pub fn check_thoroughly(&self) -> Result<(), StoreError> {
        let whole = found(&self.connection, "PRAGMA integrity_check(5)").and_then(|()| {
            let mut query = self.connection.prepare("PRAGMA foreign_key_check")?;
            let mut rows = query.query([])?;
            match rows.next()? {
                Some(row) => {
                    let (table, parent): (String, String) = (row.get(0)?, row.get(2)?);
                    Err(damaged(format!("a row of {table} refers to one of {parent} that is not there")))
                }
                None => Ok(()),
            }
        });
        whole.map_err(|error| told(error, &self.path))
    }
}
