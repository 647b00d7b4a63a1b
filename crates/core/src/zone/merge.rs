//! Brings a zone in step with a changed pattern: what came from the pattern follows it, what was made by hand stays.
//!
//! Three zones are compared, record set by record set: what the pattern gave before, what it gives now, and what the
//! zone has. A set that is neither was changed by hand. Used by `zone realign` and `zone move`.

use std::collections::{BTreeMap, BTreeSet};

use super::{Document, Record, RecordType, Soa};
use crate::name::DnsName;

/// What has to change in the zone.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Merged {
    pub removed: Vec<Record>,
    pub added: Vec<Record>,
    /// Other values for the start of authority.
    pub soa: Option<Soa>,
    /// What should follow the pattern and was changed by hand: it stays.
    pub kept: Vec<(DnsName, RecordType)>,
}

impl Merged {
    /// Whether the zone is as the pattern has it, hand-made parts aside.
    pub fn is_in_step(&self) -> bool {
        self.removed.is_empty() && self.added.is_empty() && self.soa.is_none()
    }
}

type Sets<'a> = BTreeMap<(&'a DnsName, RecordType), Vec<&'a Record>>;

/// Compares what the pattern gave, `before`, and what it gives, `now`, with the zone.
pub fn merge(zone: &Document, before: &Document, now: &Document) -> Merged {
    let (present, old, new) = (sets(zone), sets(before), sets(now));
    let keys: BTreeSet<_> = old.keys().chain(new.keys()).copied().collect();
    let mut merged = Merged::default();
    let mut by_hand = BTreeSet::new();
    for key in keys {
        let [had, wanted, has] = [&old, &new, &present].map(|sets| sets.get(&key).cloned().unwrap_or_default());
        if same(&had, &wanted) || same(&has, &wanted) {
            continue;
        }
        if !same_data(&has, &had) {
            by_hand.insert(key);
            continue;
        }
        // A TTL that was set by hand stays, unless the pattern itself has another one now.
        let ttl_follows = had.first().map(|record| record.ttl) != wanted.first().map(|record| record.ttl);
        let ttl = has.first().map(|record| record.ttl).filter(|_| !ttl_follows);
        let wanted: Vec<Record> =
            wanted.into_iter().map(|record| Record { ttl: ttl.unwrap_or(record.ttl), ..record.clone() }).collect();
        merged.removed.extend(has.iter().filter(|record| !wanted.contains(record)).map(|record| (*record).clone()));
        merged.added.extend(wanted.into_iter().filter(|record| !has.contains(&record)));
    }
    give_way_to_aliases(&present, &mut merged, &mut by_hand);
    merged.kept = by_hand.into_iter().map(|(owner, kind)| (owner.clone(), kind)).collect();
    merged.soa = soa(zone.soa(), before.soa(), now.soa(), &mut merged.kept, zone.origin());
    merged
}

fn sets(zone: &Document) -> Sets<'_> {
    let mut sets: Sets<'_> = BTreeMap::new();
    for record in zone.records().filter(|record| record.record_type() != RecordType::SOA) {
        let set = sets.entry((&record.owner, record.record_type())).or_default();
        // The same record twice is one.
        if !set.iter().any(|known| known.data == record.data) {
            set.push(record);
        }
    }
    sets
}

fn same_data(a: &[&Record], b: &[&Record]) -> bool {
    a.len() == b.len() && a.iter().all(|record| b.iter().any(|other| other.data == record.data))
}

fn same(a: &[&Record], b: &[&Record]) -> bool {
    same_data(a, b) && a.first().map(|record| record.ttl) == b.first().map(|record| record.ttl)
}

/// Where somebody has put an alias, or other data in the place of one, what the pattern would add stays out.
fn give_way_to_aliases<'a>(present: &Sets<'a>, merged: &mut Merged, by_hand: &mut BTreeSet<(&'a DnsName, RecordType)>) {
    let removed = merged.removed.clone();
    let stays = |owner: &DnsName, wanted: &dyn Fn(RecordType) -> bool| {
        present
            .iter()
            .find(|((name, kind), set)| {
                *name == owner && wanted(*kind) && !set.iter().all(|record| removed.contains(record))
            })
            .map(|(key, _)| *key)
    };
    merged.added.retain(|record| {
        let in_the_way = match record.record_type() {
            RecordType::CNAME => stays(&record.owner, &|kind| kind != RecordType::CNAME),
            _ => stays(&record.owner, &|kind| kind == RecordType::CNAME),
        };
        match in_the_way {
            Some(key) => {
                by_hand.insert(key);
                false
            }
            None => true,
        }
    });
}

fn soa(present: &Soa, old: &Soa, new: &Soa, kept: &mut Vec<(DnsName, RecordType)>, apex: &DnsName) -> Option<Soa> {
    let mut by_hand = false;
    let mut follow = |has: &DnsName, had: &DnsName, wanted: &DnsName| match (had == wanted, has == had) {
        (false, true) => wanted.clone(),
        (differs, _) => {
            by_hand |= !differs && has != wanted;
            has.clone()
        }
    };
    let primary = follow(&present.primary, &old.primary, &new.primary);
    let hostmaster = follow(&present.hostmaster, &old.hostmaster, &new.hostmaster);
    let mut number = |has: u32, had: u32, wanted: u32| match (had == wanted, has == had) {
        (false, true) => wanted,
        (differs, _) => {
            by_hand |= !differs && has != wanted;
            has
        }
    };
    let merged = Soa {
        primary,
        hostmaster,
        serial: present.serial,
        refresh: number(present.refresh, old.refresh, new.refresh),
        retry: number(present.retry, old.retry, new.retry),
        expire: number(present.expire, old.expire, new.expire),
        negative_ttl: number(present.negative_ttl, old.negative_ttl, new.negative_ttl),
    };
    if by_hand {
        kept.push((apex.clone(), RecordType::SOA));
    }
    (merged != *present).then_some(merged)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn zone(text: &str) -> Document {
        let text =
            if text.contains("SOA") { text.to_string() } else { format!("@ SOA ns1 host 7 4h 30m 4w 5m\n{text}") };
        Document::parse(format!("$TTL 3600\n{text}"), &DnsName::absolute("gullrock.example").unwrap()).unwrap()
    }

    fn words(records: &[Record]) -> Vec<String> {
        records.iter().map(|record| record.to_string().replace("gullrock.example.", "@")).collect()
    }

    const BEFORE: &str = "@ NS ns1\n@ A 192.0.2.1\nwww A 192.0.2.1\n@ MX 0 .\nftp A 192.0.2.1\n";
    const NOW: &str = "@ NS ns1\n@ A 192.0.2.2\nwww A 192.0.2.2\n@ TXT \"new\"\nftp A 192.0.2.2\n";

    #[test]
    fn what_came_from_the_pattern_follows_it() {
        let merged = merge(&zone(&format!("{BEFORE}shop A 192.0.2.9\n")), &zone(BEFORE), &zone(NOW));
        assert_eq!(
            words(&merged.removed),
            ["@ 3600 IN A 192.0.2.1", "@ 3600 IN MX 0 .", "ftp.@ 3600 IN A 192.0.2.1", "www.@ 3600 IN A 192.0.2.1"]
        );
        assert_eq!(
            words(&merged.added),
            [
                "@ 3600 IN A 192.0.2.2",
                "@ 3600 IN TXT \"new\"",
                "ftp.@ 3600 IN A 192.0.2.2",
                "www.@ 3600 IN A 192.0.2.2"
            ]
        );
        assert!(merged.kept.is_empty() && merged.soa.is_none() && !merged.is_in_step());
        assert!(merge(&zone(NOW), &zone(BEFORE), &zone(NOW)).is_in_step());
        assert!(merge(&zone("@ NS other\n"), &zone(BEFORE), &zone(BEFORE)).is_in_step(), "the pattern did not change");
    }

    #[test]
    fn what_was_made_by_hand_stays_and_is_named() {
        let by_hand =
            "@ NS ns1\n@ A 192.0.2.1\n@ A 192.0.2.7\nwww 60 A 192.0.2.1\n@ MX 10 mail\nftp CNAME @\n@ TXT \"mine\"\n";
        let merged = merge(&zone(by_hand), &zone(BEFORE), &zone(NOW));
        assert_eq!(words(&merged.removed), ["www.@ 60 IN A 192.0.2.1"]);
        assert_eq!(words(&merged.added), ["www.@ 60 IN A 192.0.2.2"], "the TTL stays as it was set");
        let kept: Vec<String> = merged.kept.iter().map(|(owner, kind)| format!("{} {kind}", owner.bare())).collect();
        let expected = ["gullrock.example A", "gullrock.example MX", "gullrock.example TXT", "ftp.gullrock.example A"];
        assert_eq!(kept, expected);
    }

    #[test]
    fn an_alias_made_by_hand_is_not_given_company() {
        let before = zone("@ NS ns1\n");
        let merged = merge(&zone("@ NS ns1\nwww CNAME @\n"), &before, &zone("@ NS ns1\nwww A 192.0.2.1\n"));
        assert!(merged.is_in_step() && merged.kept[0].1 == RecordType::CNAME, "{merged:?}");
        let merged = merge(&zone("@ NS ns1\nwww TXT x\n"), &before, &zone("@ NS ns1\nwww CNAME @\n"));
        assert!(merged.is_in_step() && merged.kept.len() == 1, "{merged:?}");
        let merged = merge(
            &zone("@ NS ns1\nwww CNAME @\n"),
            &zone("@ NS ns1\nwww CNAME @\n"),
            &zone("@ NS ns1\nwww A 192.0.2.1\n"),
        );
        assert_eq!((merged.removed.len(), merged.added.len()), (1, 1), "an alias of the pattern gives way");
    }

    #[test]
    fn the_start_of_authority_follows_value_by_value() {
        let soa = |text: &str| zone(&format!("@ SOA {text}\n@ NS ns1\n"));
        let (before, now) = (soa("ns1 host 1 4h 30m 4w 5m"), soa("ns2 host 1 4h 15m 4w 5m"));
        let merged = merge(&soa("ns1 me 9 4h 30m 2w 5m"), &before, &now);
        let changed = merged.soa.unwrap();
        assert_eq!((changed.primary.bare().as_str(), changed.retry, changed.serial), ("ns2.gullrock.example", 900, 9));
        assert_eq!((changed.hostmaster.bare().as_str(), changed.expire), ("me.gullrock.example", 1_209_600));
        assert!(merged.kept.is_empty());
        let by_hand = merge(&soa("ns3 host 9 4h 30m 4w 5m"), &before, &now);
        assert_eq!(by_hand.kept[0].1, RecordType::SOA);
    }
}
