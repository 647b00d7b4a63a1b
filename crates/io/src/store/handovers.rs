//! What was handed over to registrars: for which domain, when, and to which nameservers. A note, so that the next checks know
//! that somebody was asked; nothing is decided by it but whether to wait.

use brightharbor_core::name::{DnsName, Hostname};
use jiff::{SignedDuration, Timestamp};
use rusqlite::{OptionalExtension, params};

use super::{Store, StoreError};

/// Asking again for the same counts as the same wish for so long: who only looks at the page once more has not asked anew.
const SAME_WISH: SignedDuration = SignedDuration::from_hours(24 * 7);

impl Store {
    /// Notes that a domain is to be delegated to these nameservers, and that somebody is asked for it now.
    pub fn note_handover(&self, domain: &Hostname, nameservers: &[DnsName], now: Timestamp) -> Result<(), StoreError> {
        let old = now.checked_sub(SAME_WISH).unwrap_or(now).as_second();
        self.connection.execute(
            "INSERT INTO handover (domain, asked, nameservers) VALUES ($1, $2, $3)
             ON CONFLICT (domain) DO UPDATE SET asked = excluded.asked, nameservers = excluded.nameservers
             WHERE nameservers <> excluded.nameservers OR asked < $4",
            params![domain.as_str(), now.as_second(), listed(nameservers)?, old],
        )?;
        Ok(())
    }

    /// Since when somebody is asked to delegate a domain to these nameservers.
    pub fn handed_over(&self, domain: &Hostname, nameservers: &[DnsName]) -> Result<Option<Timestamp>, StoreError> {
        let mut query =
            self.connection.prepare_cached("SELECT asked FROM handover WHERE domain = $1 AND nameservers = $2")?;
        let asked: Option<i64> =
            query.query_row(params![domain.as_str(), listed(nameservers)?], |row| row.get(0)).optional()?;
        asked
            .map(|asked| Timestamp::from_second(asked).map_err(|error| StoreError::Value(error.to_string())))
            .transpose()
    }
}

/// In one order, whatever they were given in.
fn listed(nameservers: &[DnsName]) -> Result<String, StoreError> {
    let mut sorted = nameservers.to_vec();
    sorted.sort();
    serde_json::to_string(&sorted).map_err(|error| StoreError::Value(error.to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_first_asking_counts_until_something_else_is_asked_for() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::create(&folder.path().join("inventory.sqlite")).unwrap();
        let domain = Hostname::parse("gullrock.example").unwrap();
        let names = |all: [&str; 2]| all.map(|name| DnsName::absolute(name).unwrap()).to_vec();
        let (ours, reversed) = (
            names(["ns1.saltmarsh.example", "ns2.oldquay.example"]),
            names(["ns2.oldquay.example", "ns1.saltmarsh.example"]),
        );
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        assert_eq!(store.handed_over(&domain, &ours).unwrap(), None);
        store.note_handover(&domain, &ours, at("2026-11-27T10:00:00Z")).unwrap();
        store.note_handover(&domain, &reversed, at("2026-11-27T12:00:00Z")).unwrap();
        assert_eq!(store.handed_over(&domain, &reversed).unwrap(), Some(at("2026-11-27T10:00:00Z")));
        store.note_handover(&domain, &ours, at("2026-12-27T12:00:00Z")).unwrap();
        assert_eq!(store.handed_over(&domain, &ours).unwrap(), Some(at("2026-12-27T12:00:00Z")), "a month later");
        store.note_handover(&domain, &ours[..1], at("2026-12-27T13:00:00Z")).unwrap();
        assert_eq!(store.handed_over(&domain, &ours).unwrap(), None, "something else is asked for");
    }
}
