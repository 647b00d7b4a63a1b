//! The zone that the world uses for a domain before a zone of ours takes its place: what is asked for where it cannot be
//! transferred ([`questions`]), what of it goes into the new zone ([`carry_over`]), and where two zones differ
//! ([`differences`]). Nothing of it is asked here: `io/src/load/former.rs` does.

mod asking;
mod carry;
mod compare;

use std::collections::BTreeMap;
use std::net::SocketAddr;

use super::{Record, RecordData, RecordType};
use crate::name::DnsName;

pub use asking::{absent_name, further_questions, questions};
pub use carry::{CarriedOver, carry_over};
pub use compare::{Difference, Differs, differences};

/// What is known of a zone that others serve.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FormerZone {
    pub origin: DnsName,
    /// Its record sets, without what the server makes itself (SOA, signatures, denials).
    pub records: Vec<Record>,
    /// Where it comes from.
    pub from: FormerSource,
    /// Whether the parent has DS records: whoever takes the zone over has to see to them first.
    pub signed: bool,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FormerSource {
    /// All of it, from this server.
    Transfer(SocketAddr),
    /// What the usual questions show at this server: names that nobody asks for are not seen.
    Questions(SocketAddr),
    /// All of it, from a file of the former provider.
    File(String),
}

impl FormerSource {
    /// Whether nothing is missing.
    pub fn is_whole(&self) -> bool {
        !matches!(self, FormerSource::Questions(_))
    }
}

/// What becomes of the zone that the world uses.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum FormerWish {
    /// It is looked at, and carried over.
    #[default]
    Look,
    /// It is left alone: the new zone has what the template gives.
    Bare,
    /// It is taken from this file of the former provider: the file's name, and the records in it.
    File { name: String, records: Vec<Record> },
}

/// Record sets by their owner and type.
type Sets<'a> = BTreeMap<(&'a DnsName, RecordType), Vec<&'a Record>>;

fn sets<'a>(records: impl IntoIterator<Item = &'a Record>) -> Sets<'a> {
    let mut sets = Sets::new();
    for record in records {
        sets.entry((&record.owner, record.record_type())).or_default().push(record);
    }
    sets
}

/// DNSSEC's own records, the start of authority, and what asks about a zone as such: RRSIG, NSEC, DNSKEY, NSEC3, NSEC3PARAM,
/// CDS, CDNSKEY, CSYNC, ZONEMD; and the private type in which BIND notes how far its signing is.
const MADE_BY_THE_SERVER: [u16; 11] = [6, 46, 47, 48, 50, 51, 59, 60, 62, 63, 65534];

impl FormerZone {
    /// From whole records.
    pub fn whole(origin: &DnsName, records: Vec<Record>, from: FormerSource, signed: bool) -> Self {
        let mut records = records;
        records
            .retain(|record| record.owner.is_within(origin) && !MADE_BY_THE_SERVER.contains(&record.record_type().0));
        Self { origin: origin.clone(), records, from, signed }
    }

    /// From what the questions gave. `absent` is what was answered for a name that nobody has: what a wildcard gives.
    pub fn asked(origin: &DnsName, records: Vec<Record>, absent: &[Record], server: SocketAddr, signed: bool) -> Self {
        let mut seen = Self::whole(origin, records, FormerSource::Questions(server), signed);
        if let Some(wildcard) = wildcard_of(origin).filter(|_| !absent.is_empty()) {
            // What a name has from the wildcard alone is the wildcard's. One that has more, itself or below it, is there by
            // itself: no wildcard would speak for it (RFC 4592 section 2.2.1).
            let given = |record: &Record| absent.iter().any(|other| other.data == record.data);
            let own: Vec<DnsName> =
                seen.records.iter().filter(|one| !given(one)).map(|one| one.owner.clone()).collect();
            let is_there = |name: &DnsName| own.iter().any(|owner| owner.is_within(name));
            seen.records.retain(|record| !given(record) || is_there(&record.owner) || record.owner == *origin);
            seen.records.extend(absent.iter().map(|record| Record { owner: wildcard.clone(), ..record.clone() }));
        }
        seen.records.sort_by(|a, b| (&a.owner, a.record_type().0).cmp(&(&b.owner, b.record_type().0)));
        seen.records.dedup();
        seen
    }
}

fn wildcard_of(origin: &DnsName) -> Option<DnsName> {
    DnsName::parse("*", origin).ok()
}

/// A name and type, as it is shown: `www CNAME`, `@ MX`.
pub fn set_words(owner: &DnsName, record_type: RecordType, origin: &DnsName) -> String {
    let owner = owner.relative_to(origin).unwrap_or_else(|| owner.to_string());
    format!("{owner} {record_type}")
}

/// Whether a TXT record is a sender policy (RFC 7208 section 3).
fn is_sender_policy(data: &RecordData) -> bool {
    match data {
        RecordData::Txt(strings) => {
            let text = strings.concat();
            text == b"v=spf1" || text.starts_with(b"v=spf1 ")
        }
        _ => false,
    }
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
