//! A change of a zone as an UPDATE for its primary server (RFC 2136): what has to be there, what goes, what comes.
//!
//! The requirements name every record set concerned as it was read, so that nobody else's change is overwritten.
//! Wire form and sending are in `brightharbor-io`; `alter` and `realign` decide what is removed and added.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use super::{Document, Record, RecordType};
use crate::name::DnsName;

/// What one UPDATE message says. All of it is done, or nothing (section 3.7).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Update {
    pub zone: DnsName,
    pub requires: Vec<Requirement>,
    pub removed: Vec<Record>,
    pub added: Vec<Record>,
}

/// What must hold for the update to be done (section 2.4).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Requirement {
    /// The record set is exactly this (section 2.4.2).
    Exactly(Vec<Record>),
    /// There is no such record set (section 2.4.3).
    NoSet { owner: DnsName, record_type: RecordType },
    /// The name has no records at all (section 2.4.5).
    NameUnused(DnsName),
}

impl Update {
    /// The update that makes a zone, read as `before`, lose some records and get others.
    pub fn new(before: &Document, removed: &[Record], added: &[Record]) -> Self {
        let set = |owner: &DnsName, kind: RecordType| -> Vec<Record> {
            before.records().filter(|r| r.owner == *owner && r.record_type() == kind).cloned().collect()
        };
        let mut requires = Vec::new();
        for (owner, record_type) in sets(removed, added) {
            let present = set(&owner, record_type);
            requires.push(match present.is_empty() {
                true => Requirement::NoSet { owner, record_type },
                false => Requirement::Exactly(present),
            });
        }
        let owners: BTreeSet<&DnsName> = added.iter().map(|record| &record.owner).collect();
        for owner in owners {
            let has_data = before.records().any(|record| record.owner == *owner);
            let gets_alias = added.iter().any(|r| r.owner == *owner && r.record_type() == RecordType::CNAME);
            let touches_alias = removed.iter().any(|r| r.owner == *owner && r.record_type() == RecordType::CNAME);
            if gets_alias && !has_data {
                requires.push(Requirement::NameUnused(owner.clone()));
            } else if !gets_alias && !touches_alias {
                // An alias that came meanwhile would swallow the new data without an error (section 3.4.2.2).
                requires.push(Requirement::NoSet { owner: owner.clone(), record_type: RecordType::CNAME });
            }
        }
        Self { zone: before.origin().clone(), requires, removed: removed.to_vec(), added: added.to_vec() }
    }

    /// The update that takes this one back, as long as the sets concerned are as this one left them.
    ///
    /// A start of authority is not taken back: its serial may only grow.
    pub fn inverse(&self) -> Self {
        let mut requires = Vec::new();
        for (owner, record_type) in sets(&self.removed, &self.added) {
            if record_type == RecordType::SOA {
                continue;
            }
            let of_set = |record: &&Record| record.owner == owner && record.record_type() == record_type;
            let before = self.requires.iter().find_map(|requirement| match requirement {
                Requirement::Exactly(records) if records.first().is_some_and(|r| of_set(&r)) => Some(&records[..]),
                _ => None,
            });
            let stayed = before.unwrap_or_default().iter().filter(|record| !self.removed.contains(record));
            let after: Vec<Record> = stayed.chain(self.added.iter().filter(of_set)).cloned().collect();
            requires.push(match after.is_empty() {
                true => Requirement::NoSet { owner, record_type },
                false => Requirement::Exactly(after),
            });
        }
        let without_soa = |records: &[Record]| -> Vec<Record> {
            records.iter().filter(|record| record.record_type() != RecordType::SOA).cloned().collect()
        };
        let (removed, added) = (without_soa(&self.added), without_soa(&self.removed));
        Self { zone: self.zone.clone(), requires, removed, added }
    }

    /// The order in which a server gets it, so that no rule of section 3.4 passes over a part: records that go before
    /// those that come, since data beside an alias is ignored; nameservers of the zone the other way round, since the
    /// last one of them stays. A record that only gets another TTL is not removed.
    pub fn steps(&self) -> Vec<UpdateStep<'_>> {
        let is_apex_ns = |record: &Record| record.owner == self.zone && record.record_type() == RecordType::NS;
        let stays = |old: &Record| {
            self.added.iter().any(|new| new.owner == old.owner && new.data == old.data)
                || old.record_type() == RecordType::SOA
        };
        let gone = || self.removed.iter().filter(|record| !stays(record));
        let first = gone().filter(|record| !is_apex_ns(record)).map(UpdateStep::Remove);
        let last = gone().filter(|record| is_apex_ns(record)).map(UpdateStep::Remove);
        first.chain(self.added.iter().map(UpdateStep::Add)).chain(last).collect()
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UpdateStep<'a> {
    Remove(&'a Record),
    Add(&'a Record),
}

/// The owners and types concerned, each once, in a fixed order.
fn sets(removed: &[Record], added: &[Record]) -> BTreeSet<(DnsName, RecordType)> {
    removed.iter().chain(added).map(|record| (record.owner.clone(), record.record_type())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn zone(text: &str) -> Document {
        let head = "$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1.example.\n@ NS ns2.example.\n";
        Document::parse(format!("{head}{text}"), &DnsName::absolute("gullrock.example").unwrap()).unwrap()
    }

    fn record(text: &str) -> Record {
        zone(&format!("{text}\n")).records().nth(3).unwrap().clone()
    }

    #[test]
    fn every_set_concerned_is_required_as_it_was_read() {
        let before = zone("www A 192.0.2.1\nwww A 192.0.2.2\n");
        let (old, new) = (record("www A 192.0.2.1"), record("www A 192.0.2.9"));
        let update = Update::new(&before, std::slice::from_ref(&old), std::slice::from_ref(&new));
        let both = before.records().skip(3).cloned().collect();
        let owner = new.owner.clone();
        let no_alias = Requirement::NoSet { owner: owner.clone(), record_type: RecordType::CNAME };
        assert_eq!(update.requires, [Requirement::Exactly(both), no_alias]);
        assert_eq!(update.steps(), [UpdateStep::Remove(&old), UpdateStep::Add(&new)]);
        // And back: only while the set is as the update left it.
        let back = update.inverse();
        assert_eq!((&back.removed[..], &back.added[..]), (&[new.clone()][..], &[old][..]));
        assert_eq!(back.requires, [Requirement::Exactly(vec![record("www A 192.0.2.2"), new])]);
        let fresh = Update::new(&zone(""), &[], &[record("www CNAME @")]);
        let none = Requirement::NoSet { owner: owner.clone(), record_type: RecordType::CNAME };
        assert_eq!(fresh.requires, [none.clone(), Requirement::NameUnused(owner)]);
        assert_eq!(fresh.inverse().requires, [Requirement::Exactly(vec![record("www CNAME @")])]);
        assert_eq!(fresh.inverse().inverse().requires, [none]);
    }

    #[test]
    fn the_last_nameserver_goes_only_after_the_new_ones_came_and_a_new_ttl_removes_nothing() {
        let before = zone("");
        let old: Vec<Record> = before.records().skip(1).cloned().collect();
        let new = record("@ NS ns3.example.");
        let update = Update::new(&before, &old, std::slice::from_ref(&new));
        let steps = update.steps();
        assert_eq!(steps, [UpdateStep::Add(&new), UpdateStep::Remove(&old[0]), UpdateStep::Remove(&old[1])]);
        let longer = Record { ttl: 3600, ..old[0].clone() };
        let update = Update::new(&before, &old[..1], std::slice::from_ref(&longer));
        assert_eq!(update.steps(), [UpdateStep::Add(&longer)]);
    }
}
