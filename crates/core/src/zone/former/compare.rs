//! Where a zone of ours and the one that the world uses differ, set by set.

use super::super::{Document, Record, RecordType};
use super::carry::LEADS_VISITORS;
use super::{FormerZone, Sets, sets, wildcard_of};
use crate::name::{DnsName, Hostname};

/// One set that is not alike.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    pub owner: DnsName,
    pub record_type: RecordType,
    pub differs: Differs,
    /// The data here and there, as in a zone file.
    pub here: Vec<String>,
    pub there: Vec<String>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Differs {
    /// The world has it, and the zone here does not: it would be lost.
    MissingHere,
    Otherwise,
    OnlyHere,
    /// Where visitors of a name go that is attached here: they are to come here.
    ServedHere,
}

impl Differs {
    /// Whether something that the world has would not be as it is.
    pub fn is_loss(self) -> bool {
        matches!(self, Differs::MissingHere | Differs::Otherwise)
    }

    /// For people.
    pub fn words(self) -> &'static str {
        match self {
            Differs::MissingHere => "missing here",
            Differs::Otherwise => "other data",
            Differs::OnlyHere => "only here",
            Differs::ServedHere => "served here",
        }
    }

    pub fn word(self) -> &'static str {
        match self {
            Differs::MissingHere => "missing-here",
            Differs::Otherwise => "other-data",
            Differs::OnlyHere => "only-here",
            Differs::ServedHere => "served-here",
        }
    }
}

/// The sets that differ; those that would be lost come first. Times to live do not count, nor who serves the zone, nor what
/// a server makes itself. `attached` are the names that are served here.
pub fn differences(here: &Document, there: &FormerZone, attached: &[Hostname]) -> Vec<Difference> {
    let own: Vec<Record> =
        FormerZone::whole(here.origin(), here.records().cloned().collect(), there.from.clone(), false).records;
    let (own, other) = (sets(&own), sets(&there.records));
    let wildcard = wildcard_of(here.origin());
    let is_served = |owner: &DnsName| attached.iter().any(|name| name.dns_name() == *owner);
    let mut all = Vec::new();
    for key in own.keys().chain(other.keys().filter(|key| !own.contains_key(*key))) {
        let (owner, record_type) = *key;
        if record_type == RecordType::NS && owner == here.origin() {
            continue;
        }
        let data = |records: Option<Vec<&Record>>| {
            let mut data: Vec<String> = records.into_iter().flatten().map(|record| record.data.to_string()).collect();
            data.sort();
            data.dedup();
            data
        };
        let (here, there) =
            (data(answer(&own, *key, wildcard.as_ref())), data(answer(&other, *key, wildcard.as_ref())));
        let differs = match (here.is_empty(), there.is_empty()) {
            _ if here == there => continue,
            (_, false) if LEADS_VISITORS.contains(&record_type.0) && is_served(owner) => Differs::ServedHere,
            (true, _) => Differs::MissingHere,
            (_, true) => Differs::OnlyHere,
            _ => Differs::Otherwise,
        };
        all.push(Difference { owner: owner.clone(), record_type, differs, here, there });
    }
    let rank = |differs: Differs| match differs {
        Differs::MissingHere => 0,
        Differs::Otherwise => 1,
        Differs::OnlyHere => 2,
        Differs::ServedHere => 3,
    };
    all.sort_by(|a, b| (rank(a.differs), &a.owner, a.record_type.0).cmp(&(rank(b.differs), &b.owner, b.record_type.0)));
    all
}

/// What one side answers: where it does not have the name, its wildcard speaks for it.
fn answer<'a>(
    sets: &Sets<'a>,
    (owner, record_type): (&'a DnsName, RecordType),
    wildcard: Option<&'a DnsName>,
) -> Option<Vec<&'a Record>> {
    let is_there = || sets.keys().any(|(name, _)| name.is_within(owner));
    let by_wildcard = || sets.get(&(wildcard?, record_type)).filter(|_| !is_there());
    sets.get(&(owner, record_type)).or_else(by_wildcard).cloned()
}
