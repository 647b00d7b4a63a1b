//! Names that begin alike, for a shell that completes them: by key, however many there are.

use super::{Store, StoreError};

/// What a name is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    Hostname,
    Account,
    Zone,
    Plan,
    /// One made by command; those of harbor.toml are not in the inventory.
    NameserverSet,
}

impl Store {
    /// The names of a kind that begin with what was typed, by name, `most` at most.
    pub fn names(&self, kind: Named, typed: &str, most: usize) -> Result<Vec<String>, StoreError> {
        let table = match kind {
            Named::Hostname => "hostname",
            Named::Account => "account",
            Named::Zone => "zone",
            Named::Plan => "plan",
            Named::NameserverSet => "nameserver_set",
        };
        // No name has a letter behind the last one of ASCII.
        let statement = format!("SELECT name FROM {table} WHERE name >= $1 AND name < $2 ORDER BY name LIMIT $3");
        let mut query = self.connection.prepare_cached(&statement)?;
        let limit = i64::try_from(most).unwrap_or(i64::MAX);
        let names = query.query_map((typed, format!("{typed}\u{10ffff}"), limit), |row| row.get(0))?;
        Ok(names.collect::<Result<_, _>>()?)
    }
}
