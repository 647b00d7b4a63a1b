//! Reading nameserver sets, how many domains use them, and when zones were last changed.

use std::collections::{BTreeMap, HashMap};

use brightharbor_core::change::{Purpose, Recorded, RecordedChange};
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::Hostname;
use jiff::Timestamp;
use rusqlite::params;

use super::{Store, StoreError, from_word, word};

/// Entries of the logbook that are looked through for changes of a moment ago.
const MOST_ENTRIES: u32 = 2_000;

impl Store {
    /// The sets that were made by commands, by name.
    pub fn nameserver_sets(&self) -> Result<BTreeMap<String, NameserverSet>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT name, value FROM nameserver_set ORDER BY name")?;
        let rows = query.query_map([], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)))?;
        rows.map(|row| {
            let (name, value) = row?;
            let set = serde_json::from_str(&value)
                .map_err(|error| StoreError::Value(format!("the nameserver set {name}: {error}")))?;
            Ok((name, set))
        })
        .collect()
    }

    /// How many zones use a set; `None`: that of `[host]`.
    pub fn zones_with_set(&self, set: Option<&str>) -> Result<u32, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT count(*) FROM zone WHERE nameserver_set IS $1")?;
        Ok(query.query_row([set], |row| row.get(0))?)
    }

    /// The accounts that name a set for their new domains.
    pub fn accounts_with_set(&self, set: &str) -> Result<u32, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT count(*) FROM account WHERE nameserver_set = $1")?;
        Ok(query.query_row([set], |row| row.get(0))?)
    }

    /// When each zone was last changed by a command, as far as that was since then.
    pub fn zones_changed_since(&self, since: Timestamp) -> Result<HashMap<Hostname, Timestamp>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT at, changes FROM logbook WHERE at > $1 AND outcome = 'done' ORDER BY id DESC LIMIT $2",
        )?;
        let rows = query.query_map(params![word(&since)?, MOST_ENTRIES], |row| {
            Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?))
        })?;
        let mut changed = HashMap::new();
        for row in rows {
            let (at, changes) = row?;
            let at: Timestamp = from_word(&at)?;
            // An entry that an older version wrote otherwise tells nothing.
            let Ok(set) = serde_json::from_str::<Recorded>(&changes) else { continue };
            for change in &set.changes {
                let zone = match change {
                    RecordedChange::WriteFile { purpose: Purpose::ZoneFile { zone }, .. } => zone,
                    RecordedChange::UpdateZone(update) => &update.zone,
                    _ => continue,
                };
                changed.entry(zone.clone()).or_insert(at);
            }
        }
        Ok(changed)
    }
}
