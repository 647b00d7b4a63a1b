//! Reading zones, and the patterns that they were made by.

use std::collections::HashMap;

use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::Pattern;
use brightharbor_core::zone::Zone;
use rusqlite::OptionalExtension;

use super::read::hostname;
use super::{Store, StoreError, from_word};

impl Store {
    pub fn zone(&self, name: &Hostname) -> Result<Option<Zone>, StoreError> {
        Ok(self.zones_where("WHERE name = $1", &[&name.as_str()])?.pop())
    }

    /// All zones, by name.
    pub fn zones(&self) -> Result<Vec<Zone>, StoreError> {
        self.zones_where("ORDER BY name", &[])
    }

    fn zones_where(&self, clause: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<Zone>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!(
            "SELECT name, account, home, primary_server, nameserver_set, pattern, prepared, signing FROM zone {clause}"
        ))?;
        let rows = query
            .query_map(values, |row| {
                let words: [String; 3] = [row.get(0)?, row.get(1)?, row.get(2)?];
                let more: [Option<String>; 5] = [row.get(3)?, row.get(4)?, row.get(5)?, row.get(6)?, row.get(7)?];
                Ok((words, more))
            })?
            .collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|([name, account, home], [primary, nameserver_set, pattern, prepared, signing])| {
                let (name, account, home) = (hostname(&name)?, from_word(&account)?, from_word(&home)?);
                let prepared = prepared.map(|text| serde_json::from_str(&text)).transpose();
                let prepared = prepared.map_err(|error| StoreError::Value(format!("the zone {name}: {error}")))?;
                let signing = signing.map(|text| serde_json::from_str(&text)).transpose();
                let signing = signing.map_err(|error| StoreError::Value(format!("the zone {name}: {error}")))?;
                Ok(Zone { name, account, home, primary, nameserver_set, pattern, prepared, signing })
            })
            .collect()
    }

    /// The hashes of zone files as they were last loaded from here; a zone of an older harbor has none until then.
    pub fn loaded_files(&self) -> Result<HashMap<Hostname, String>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT name, loaded FROM zone WHERE loaded IS NOT NULL")?;
        let rows = query.query_map([], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)))?;
        rows.map(|row| row.map_err(StoreError::from).and_then(|(name, hash)| Ok((hostname(&name)?, hash)))).collect()
    }

    /// The pattern with that key.
    pub fn pattern(&self, key: &str) -> Result<Option<Pattern>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT value FROM pattern WHERE key = $1")?;
        let value = query.query_row([key], |row| row.get::<_, String>(0)).optional()?;
        value.map(|value| read_pattern(&value)).transpose()
    }

    /// All patterns that zones were ever made by.
    pub fn patterns(&self) -> Result<Vec<Pattern>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT value FROM pattern ORDER BY key")?;
        let values = query.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
        values.iter().map(|value| read_pattern(value)).collect()
    }

    /// The nearest zone that holds the hostname: its own or that of an ancestor.
    pub fn enclosing_zone(&self, name: &Hostname) -> Result<Option<Zone>, StoreError> {
        nearest_zone(name.clone(), |name| self.zone(name))
    }

    /// The same for an owner of records, which need be no hostname (`_dmarc`).
    pub fn zone_holding(&self, owner: &DnsName) -> Result<Option<Zone>, StoreError> {
        nearest_zone_above(owner, |name| self.zone(name))
    }
}

/// The first zone on the way up from a name, the name itself first. `zone` looks one up.
pub(crate) fn nearest_zone(
    name: Hostname,
    zone: impl Fn(&Hostname) -> Result<Option<Zone>, StoreError>,
) -> Result<Option<Zone>, StoreError> {
    let ancestors: Vec<Hostname> = name.ancestors().collect();
    std::iter::once(name).chain(ancestors).find_map(|name| zone(&name).transpose()).transpose()
}

/// The same from an owner of records.
pub(crate) fn nearest_zone_above(
    owner: &DnsName,
    zone: impl Fn(&Hostname) -> Result<Option<Zone>, StoreError>,
) -> Result<Option<Zone>, StoreError> {
    let hostnames = std::iter::successors(Some(owner.clone()), DnsName::parent)
        .filter_map(|candidate| Hostname::parse_zone(&candidate.bare()).ok());
    hostnames.map(|name| zone(&name)).find_map(Result::transpose).transpose()
}

fn read_pattern(value: &str) -> Result<Pattern, StoreError> {
    serde_json::from_str(value).map_err(|error| StoreError::Value(format!("a pattern: {error}")))
}
