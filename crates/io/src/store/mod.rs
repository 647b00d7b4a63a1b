//! The inventory in SQLite: accounts, sites, zones, certificates, what waits, and the logbook.
//!
//! Reading is by key, never by walking everything, so that the 100,001st hostname costs what the first did. All
//! changes of one command are written in one transaction together with their logbook entry.

mod apply;
mod former;
mod logbook;
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

pub use logbook::{Begun, Entry, EntryOutcome, Inverse, Revision};
pub(crate) use read_zones::{nearest_zone, nearest_zone_above};

#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    #[error("no harbor at {0}")]
    NoHarbor(PathBuf),
    #[error("the harbor at {0} was made by a newer version of brightharbor (inventory version {1})")]
    Newer(PathBuf, i64),
    #[error("the inventory: {0}")]
    Sqlite(#[from] rusqlite::Error),
    #[error("the inventory holds a value that cannot be read: {0}")]
    Value(String),
}

pub struct Store {
    connection: Connection,
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
        let root = path.parent().unwrap_or(path).to_path_buf();
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        if !path.exists() {
            return Err(StoreError::NoHarbor(root));
        }
        let mut connection = Connection::open_with_flags(path, flags)?;
        connection.busy_timeout(Duration::from_secs(10))?;
        connection.pragma_update(None, "synchronous", "FULL")?;
        connection.pragma_update(None, "foreign_keys", "ON")?;
        let version: i64 = connection.pragma_query_value(None, "user_version", |row| row.get(0))?;
        if version > schema::VERSION {
            return Err(StoreError::Newer(root, version));
        }
        if version < schema::VERSION {
            migrate(&mut connection)?;
        }
        Ok(Self { connection })
    }
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
