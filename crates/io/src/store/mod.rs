//! The inventory in SQLite: accounts, sites, zones, certificates, what waits, and the logbook.
//!
//! Reading is by key, never by walking everything, so that the 100,001st hostname costs what the first did. All
//! changes of one command are written in one transaction together with their logbook entry.

mod apply;
mod backup;
mod damage;
mod former;
mod handovers;
mod logbook;
mod names;
mod notices;
mod pauses;
mod read;
mod read_nameservers;
mod read_plans;
mod read_zones;
mod revocations;
mod schema;

use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, OpenFlags, TransactionBehavior};

pub use backup::{BackupError, newest_sound};
pub use logbook::{Begun, Entry, EntryOutcome, Inverse, Revision};
pub use names::Named;
pub(crate) use read_zones::{nearest_zone, nearest_zone_above};

#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("no harbor at {0}")]
    NoHarbor(PathBuf),
    #[error("the harbor at {0} was made by a newer version of brightharbor (inventory version {1})")]
    Newer(PathBuf, i64),
    #[error("the inventory: {0}")]
    Sqlite(rusqlite::Error),
    /// With the newest backup that is sound.
    #[error("the inventory {inventory} is damaged: {reason}")]
    Damaged { inventory: PathBuf, reason: String, backup: Option<PathBuf> },
    #[error("the inventory holds a value that cannot be read: {0}")]
    Value(String),
}

pub struct Store {
    connection: Connection,
    path: PathBuf,
}

impl Store {
    /// Makes a new inventory.
    pub fn create(path: &Path) -> Result<Self, StoreError> {
        let connection = Connection::open(path)?;
        connection.pragma_update(None, "journal_mode", "WAL")?;
        connection.execute_batch(schema::TABLES)?;
        connection.pragma_update(None, "user_version", schema::VERSION)?;
        drop(connection);
        Self::open(path)
    }

    /// Opens an inventory that is there.
    pub fn open(path: &Path) -> Result<Self, StoreError> {
        if !path.exists() {
            return Err(StoreError::NoHarbor(path.parent().unwrap_or(path).to_path_buf()));
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let opened = Connection::open_with_flags(path, flags).map_err(StoreError::from);
        match opened.and_then(|connection| Self::prepared(connection, path)) {
            Err(StoreError::Sqlite(error)) if is_not_writable(&error) => Self::open_to_read(path),
            Err(error) => Err(damage::told(error, path)),
            Ok(store) => Ok(store),
        }
    }

    /// On a file system that takes no writes, nobody else writes either.
    fn open_to_read(path: &Path) -> Result<Self, StoreError> {
        let mut uri = url::Url::from_file_path(path).map_err(|()| StoreError::NoHarbor(path.to_path_buf()))?;
        uri.set_query(Some("immutable=1"));
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let connection = Connection::open_with_flags(uri.as_str(), flags)?;
        Self::prepared(connection, path).map_err(|error| damage::told(error, path))
    }

    fn prepared(connection: Connection, path: &Path) -> Result<Self, StoreError> {
        connection.busy_timeout(Duration::from_secs(10))?;
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", "ON")?;
        let version: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
        if version > schema::VERSION {
            return Err(StoreError::Newer(path.parent().unwrap_or(path).to_path_buf(), version));
        }
        damage::look_quickly(&connection, path)?;
        let mut store = Self { connection, path: path.to_path_buf() };
        if version < schema::VERSION {
            // An older version of this program cannot read what comes now.
            store.keep_as_before(version).map_err(|error| StoreError::Value(error.to_string()))?;
            migrate(&mut store.connection)?;
        }
        Ok(store)
    }
}

fn is_not_writable(error: &rusqlite::Error) -> bool {
    use rusqlite::ErrorCode::{CannotOpen, ReadOnly};
    error.sqlite_error_code().is_some_and(|code| [CannotOpen, ReadOnly].contains(&code))
}

/// Brings the tables up to date in one transaction; another process may have done so meanwhile.
fn migrate(connection: &mut Connection) -> Result<(), StoreError> {
    let transaction = connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
    let version: i64 = transaction.pragma_query_value(None, "user_version", |row| row.get(0))?;
    for step in schema::MIGRATIONS.iter().skip(version.max(1) as usize - 1) {
        transaction.execute_batch(step)?;
    }
    transaction.pragma_update(None, "user_version", schema::VERSION)?;
    transaction.commit()?;
    Ok(())
}

/// A value of the core as it stands in a column: the same words as in JSON.
fn word<T: serde::Serialize>(value: &T) -> Result<String, StoreError> {
    match serde_json::to_value(value) {
        Ok(serde_json::Value::String(text)) => Ok(text),
        other => Err(StoreError::Value(format!("{other:?} is not a word"))),
    }
}

fn from_word<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, StoreError> {
    serde_json::from_value(serde_json::Value::String(text.to_string()))
        .map_err(|error| StoreError::Value(error.to_string()))
}

#[cfg(test)]
mod tests;
