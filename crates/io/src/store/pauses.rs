//! Names that are left out of orders for a while, and the sites that have names no certificate covers.

use brightharbor_core::acme::identifiers;
use brightharbor_core::certificate::{Certificate, NamePause};
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use jiff::Timestamp;
use rusqlite::{Transaction, params};

use super::read::host;
use super::{Store, StoreError, from_word, word};

impl Store {
    pub fn pauses_of(&self, site: &Host) -> Result<Vec<NamePause>, StoreError> {
        self.pauses_where("WHERE site = $1 ORDER BY name", &[&site.as_str()])
    }

    /// Those whose time has not come.
    pub fn all_pauses(&self, now: Timestamp) -> Result<Vec<NamePause>, StoreError> {
        self.pauses_where("WHERE not_before > $1 ORDER BY site, name", &[&now.as_second()])
    }

    fn pauses_where(&self, clause: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<NamePause>, StoreError> {
        let mut query = self
            .connection
            .prepare_cached(&format!("SELECT name, site, since, reason, not_before FROM name_pause {clause}"))?;
        let rows = query
            .query_map(values, |row| {
                let words: [String; 4] = [row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?];
                Ok((words, row.get::<_, i64>(4)?))
            })?
            .collect::<Result<Vec<_>, _>>()?;
        let pause = |([name, site, since, reason], not_before): ([String; 4], i64)| {
            Ok(NamePause {
                name: from_word(&name)?,
                site: host(&site)?,
                since: from_word(&since)?,
                not_before: Timestamp::from_second(not_before).map_err(|error| StoreError::Value(error.to_string()))?,
                reason,
            })
        };
        rows.into_iter().map(pause).collect()
    }

    /// The sites with hosts that no certificate covers and that do not pause, those whose names have paused long enough,
    /// and those with a stop-gap; by main hostname.
    pub fn sites_without_cover(&self, now: Timestamp) -> Result<Vec<Host>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT site FROM hostname WHERE https = 'none' AND NOT EXISTS (
                 SELECT 1 FROM name_pause WHERE name_pause.name = hostname.name AND not_before > $1
             ) UNION SELECT site FROM name_pause WHERE not_before <= $1
             UNION SELECT site FROM certificate WHERE source = 'self-signed' ORDER BY site",
        )?;
        let names =
            query.query_map([now.as_second()], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
        names.iter().map(|name| host(name)).collect()
    }
}

pub(super) fn remember(transaction: &Transaction<'_>, pause: &NamePause) -> Result<(), StoreError> {
    transaction.execute(
        "INSERT INTO name_pause (name, site, since, not_before, reason) VALUES ($1, $2, $3, $4, $5)
         ON CONFLICT (name) DO UPDATE SET site = $2, since = $3, not_before = $4, reason = $5",
        params![
            pause.name.to_string(),
            pause.site.as_str(),
            word(&pause.since)?,
            pause.not_before.as_second(),
            pause.reason
        ],
    )?;
    Ok(())
}

/// What a certificate covers pauses no more.
pub(super) fn end(transaction: &Transaction<'_>, certificate: &Certificate) -> Result<(), StoreError> {
    for identifier in identifiers(&certificate.names, &certificate.details.wildcards) {
        transaction.execute("DELETE FROM name_pause WHERE name = $1", [identifier.to_string()])?;
    }
    Ok(())
}

/// Names that a site has no more do not pause either.
pub(super) fn keep_attached(transaction: &Transaction<'_>, site: &Site) -> Result<(), StoreError> {
    let names = identifiers(&site.hostnames, &site.rules.certificate.wildcards);
    let names: Vec<String> = names.iter().chain(&identifiers(&site.hostnames, &[])).map(ToString::to_string).collect();
    transaction.execute(
        "DELETE FROM name_pause WHERE site = $1 AND name NOT IN (SELECT value FROM json_each($2))",
        params![site.main().as_str(), serde_json::Value::from(names).to_string()],
    )?;
    Ok(())
}
