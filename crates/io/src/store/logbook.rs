//! The logbook: an entry is begun before anything changes and ends as done, rolled back or failed.
//!
//! An entry that is still `begun` when no command holds the lock belongs to a command that was killed; its inverses
//! say how to take it back (`carry_out::recover`).

use std::path::PathBuf;

use brightharbor_core::change::{ChangeSet, Recorded, RecordedChange, ZoneUpdate};
use jiff::Timestamp;
use rusqlite::{Connection, OptionalExtension, params};
use serde::{Deserialize, Serialize};

use super::{Store, StoreError, from_word, word};

/// How one file change is taken back. Only done while the file is as this entry wrote it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "inverse", rename_all = "kebab-case")]
pub enum Inverse {
    /// A home that was made goes again while it is empty.
    RemoveHome {
        home: PathBuf,
    },
    Remove {
        path: PathBuf,
        wrote_hash: String,
    },
    Restore {
        path: PathBuf,
        wrote_hash: String,
        kept: PathBuf,
        mode: u32,
    },
    /// Only done while nothing else is there.
    PutBack {
        path: PathBuf,
        kept: PathBuf,
        mode: u32,
    },
    /// Only done while the link leads there.
    RemoveLink {
        path: PathBuf,
        to: PathBuf,
    },
    /// Only done while nothing else is there.
    PutBackLink {
        path: PathBuf,
        to: PathBuf,
    },
    /// Only done while the user is as this program makes one; its files are left.
    RemoveUser {
        name: String,
        home: PathBuf,
    },
    /// Only done while the service's link leads to the folder.
    TakeFromService {
        service: String,
        link: PathBuf,
        former: Option<PathBuf>,
        folder: PathBuf,
    },
    /// Done by its own requirements: nothing if they do not hold.
    Update(ZoneUpdate),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum EntryOutcome {
    Begun,
    Done,
    RolledBack,
    /// Could not even be rolled back whole; the detail says what is left.
    Failed,
}

impl EntryOutcome {
    pub fn words(self) -> &'static str {
        match self {
            EntryOutcome::Begun => "begun",
            EntryOutcome::Done => "done",
            EntryOutcome::RolledBack => "rolled back",
            EntryOutcome::Failed => "failed",
        }
    }
}

/// One entry as shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    pub id: i64,
    pub at: Timestamp,
    pub who: String,
    pub title: String,
    pub changes: Recorded,
    pub outcome: EntryOutcome,
    pub detail: String,
}

/// The last entry of the logbook and how it stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Revision(Option<(i64, String)>);

/// An entry that was begun and not ended.
#[derive(Debug, Clone)]
pub struct Begun {
    pub id: i64,
    pub title: String,
    pub changes: Recorded,
    pub inverses: Vec<Inverse>,
}

impl Store {
    /// The number that the next entry will have; only meaningful while the harbor's lock is held.
    pub fn next_entry(&self) -> Result<i64, StoreError> {
        let last =
            self.connection.query_row("SELECT coalesce(max(id), 0) FROM logbook", [], |row| row.get::<_, i64>(0))?;
        Ok(last + 1)
    }

    /// What the inventory is known by: another one once a command has begun or ended. Two readings of the same revision
    /// are of the same inventory.
    pub fn revision(&self) -> Result<Revision, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT id, outcome FROM logbook ORDER BY id DESC LIMIT 1")?;
        let last = query.query_row([], |row| Ok((row.get(0)?, row.get(1)?))).optional()?;
        Ok(Revision(last))
    }

    /// Whether a command has begun and not ended: it is at work, or was killed.
    pub fn has_unfinished(&self) -> Result<bool, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT 1 FROM logbook WHERE outcome = 'begun' LIMIT 1")?;
        Ok(query.exists([])?)
    }

    /// What became of an entry; `None`: there is none of that number.
    pub fn outcome(&self, entry: i64) -> Result<Option<EntryOutcome>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT outcome FROM logbook WHERE id = $1")?;
        let word = query.query_row([entry], |row| row.get::<_, String>(0)).optional()?;
        word.map(|word| super::from_word(&word)).transpose()
    }

    pub fn begin(
        &self,
        entry: i64,
        at: Timestamp,
        who: &str,
        set: &ChangeSet,
        inverses: &[Inverse],
    ) -> Result<(), StoreError> {
        let json = |value: serde_json::Result<String>| value.map_err(|error| StoreError::Value(error.to_string()));
        self.connection.execute(
            "INSERT INTO logbook (id, at, who, title, changes, inverses, outcome, detail)
             VALUES ($1, $2, $3, $4, $5, $6, 'begun', '')",
            params![
                entry,
                word(&at)?,
                who,
                set.title,
                json(serde_json::to_string(&Recorded::from(set)))?,
                json(serde_json::to_string(inverses))?
            ],
        )?;
        Ok(())
    }

    pub fn end(&self, entry: i64, outcome: EntryOutcome, detail: &str) -> Result<(), StoreError> {
        finish(&self.connection, entry, outcome, detail)
    }

    /// The last entries, the newest first.
    pub fn logbook(&self, most: u32) -> Result<Vec<Entry>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT id, at, who, title, changes, outcome, detail FROM logbook ORDER BY id DESC LIMIT $1",
        )?;
        let rows = query.query_map([most], entry_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(entry).collect()
    }

    pub fn count_entries(&self) -> Result<usize, StoreError> {
        let count: i64 = self.connection.query_row("SELECT count(*) FROM logbook", [], |row| row.get(0))?;
        Ok(count.max(0) as usize)
    }

    /// One entry, with how each of its changes of files is taken back; without a number the last one that was done.
    pub fn entry(&self, number: Option<i64>) -> Result<Option<(Entry, Vec<Inverse>)>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT id, at, who, title, changes, outcome, detail, inverses FROM logbook
             WHERE CASE WHEN $1 IS NULL THEN outcome = 'done' ELSE id = $1 END ORDER BY id DESC LIMIT 1",
        )?;
        let row = query.query_row([number], |row| Ok((entry_row(row)?, row.get::<_, String>(7)?))).optional()?;
        row.map(|(row, inverses)| Ok((entry(row)?, read_json(&inverses)?))).transpose()
    }

    /// The entries that were done after one, the newest first.
    pub fn done_after(&self, entry_id: i64, most: u32) -> Result<Vec<Entry>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT id, at, who, title, changes, outcome, detail FROM logbook WHERE id > $1 AND outcome = 'done'
             ORDER BY id DESC LIMIT $2",
        )?;
        let rows = query.query_map((entry_id, most), entry_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(entry).collect()
    }

    /// The last change before an entry that fits, looked for in changes that have all of the words: they are JSON.
    pub fn last_change_before<T>(
        &self,
        entry: i64,
        words: [&str; 2],
        fits: impl Fn(&RecordedChange) -> Option<T>,
    ) -> Result<Option<T>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT changes FROM logbook WHERE id < $1 AND outcome = 'done' AND instr(changes, $2) AND instr(changes, $3)
             ORDER BY id DESC",
        )?;
        let mut rows = query.query((entry, words[0], words[1]))?;
        while let Some(row) = rows.next()? {
            let recorded: Recorded = read_json(&row.get::<_, String>(0)?)?;
            if let Some(found) = recorded.changes.iter().rev().find_map(&fits) {
                return Ok(Some(found));
            }
        }
        Ok(None)
    }

    pub fn unfinished(&self) -> Result<Vec<Begun>, StoreError> {
        let mut query = self
            .connection
            .prepare("SELECT id, title, changes, inverses FROM logbook WHERE outcome = 'begun' ORDER BY id DESC")?;
        let rows = query
            .query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get::<_, String>(2)?, row.get::<_, String>(3)?)))?
            .collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|(id, title, changes, inverses)| {
                Ok(Begun { id, title, changes: read_json(&changes)?, inverses: read_json(&inverses)? })
            })
            .collect()
    }
}

/// The columns of an entry, as they are stored.
type EntryRow = (i64, String, String, String, String, String, String);

fn entry_row(row: &rusqlite::Row<'_>) -> rusqlite::Result<EntryRow> {
    Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?, row.get(5)?, row.get(6)?))
}

fn entry((id, at, who, title, changes, outcome, detail): EntryRow) -> Result<Entry, StoreError> {
    let (at, outcome) = (from_word(&at)?, from_word(&outcome)?);
    Ok(Entry { id, at, who, title, changes: read_json(&changes)?, outcome, detail })
}

pub(super) fn finish(
    connection: &Connection,
    entry: i64,
    outcome: EntryOutcome,
    detail: &str,
) -> Result<(), StoreError> {
    connection.execute(
        "UPDATE logbook SET outcome = $1, detail = $2 WHERE id = $3",
        params![word(&outcome)?, detail, entry],
    )?;
    Ok(())
}

fn read_json<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, StoreError> {
    serde_json::from_str(text).map_err(|error| StoreError::Value(error.to_string()))
}
