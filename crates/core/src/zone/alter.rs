//! The decision to add, replace or remove records: what exactly changes, and whether the zone stays sound.
//!
//! Pure; `edit` does the lines, `rules` judge what comes of it. A finding that the zone had before refuses nothing.

use std::collections::HashSet;

use jiff::civil::Date;

use super::rules::{Surroundings, judge_alike, judge_within};
use super::{Document, EditError, Item, Record, RecordData, RecordType};
use crate::finding::{Finding, Severity};
use crate::name::DnsName;

/// What is asked for, at one name and type.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AlterRequest {
    pub owner: DnsName,
    pub record_type: RecordType,
    pub alteration: Alteration,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Alteration {
    Add {
        ttl: Option<u32>,
        data: Vec<RecordData>,
    },
    /// All records of the name and type give way to these.
    Replace {
        ttl: Option<u32>,
        data: Vec<RecordData>,
    },
    /// These records; all of the name and type if none is given.
    Remove {
        data: Vec<RecordData>,
    },
}

impl AlterRequest {
    /// Whether a server that answers with these records has the change already. TTLs do not count: a server may
    /// count them down, and an administrator elsewhere may choose others.
    pub fn is_seen_in(&self, answer: &[Record]) -> bool {
        let of_set = answer.iter().filter(|r| r.owner == self.owner && r.record_type() == self.record_type);
        let present: Vec<&RecordData> = of_set.map(|record| &record.data).collect();
        match &self.alteration {
            Alteration::Add { data, .. } => data.iter().all(|wanted| present.contains(&wanted)),
            Alteration::Replace { data, .. } => {
                data.iter().all(|wanted| present.contains(&wanted)) && present.iter().all(|has| data.contains(has))
            }
            Alteration::Remove { data } if data.is_empty() => present.is_empty(),
            Alteration::Remove { data } => !data.iter().any(|gone| present.contains(&gone)),
        }
    }
}

/// The decision.
#[derive(Debug, Clone)]
pub struct Altered {
    pub zone: Document,
    pub facts: AlterFacts,
}

/// What it comes to, beside the zone itself, which may be large.
#[derive(Debug, Clone)]
pub struct AlterFacts {
    /// The serial of the zone from now on.
    pub serial: u32,
    pub removed: Vec<Record>,
    pub added: Vec<Record>,
    /// How long an answer of before may still be cached, in seconds.
    pub old_answers_for: u32,
    /// What the rules say that they did not say before, and that does not break the zone.
    pub findings: Vec<Finding>,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AlterRefused {
    #[error("{owner} has no {record_type} record")]
    NothingThere { owner: String, record_type: RecordType },
    #[error("{owner} has no {record_type} record `{wanted}`; it has {present}")]
    NotThere { owner: String, record_type: RecordType, wanted: String, present: String },
    #[error("the zone has these records already, with this TTL")]
    NothingNew,
    #[error(transparent)]
    Edit(#[from] EditError),
    #[error("this would break the zone: {} ({})", .0.message, .0.code)]
    Breaks(Finding),
}

/// Risks that an edit may not bring in: each is an edit that does not do what was meant.
const REFUSED_RISKS: [&str; 5] =
    ["alias-circle", "glue-missing-in-zone", "hidden-by-delegation", "mail-server-unusable", "repeated-zone-name"];

/// Decides the change.
pub fn alter(
    zone: &Document,
    request: &AlterRequest,
    around: &Surroundings,
    today: Date,
) -> Result<Altered, AlterRefused> {
    let present: Vec<Record> = zone
        .records()
        .filter(|record| record.owner == request.owner && record.record_type() == request.record_type)
        .cloned()
        .collect();
    let (removed, added) = match &request.alteration {
        Alteration::Add { ttl, data } => {
            let ttl = ttl.or(present.first().map(|record| record.ttl)).unwrap_or_else(|| default_ttl(zone));
            (vec![], fresh(request, ttl, data))
        }
        Alteration::Replace { ttl, data } => {
            let first = present.first().ok_or_else(|| nothing_there(request))?;
            let new = fresh(request, ttl.unwrap_or(first.ttl), data);
            let removed: Vec<Record> = present.iter().filter(|record| !new.contains(record)).cloned().collect();
            let added: Vec<Record> = new.into_iter().filter(|record| !present.contains(record)).collect();
            (removed, added)
        }
        Alteration::Remove { data } if data.is_empty() && present.is_empty() => return Err(nothing_there(request)),
        Alteration::Remove { data } if data.is_empty() => (present.clone(), vec![]),
        Alteration::Remove { data } => (chosen(request, data, &present)?, vec![]),
    };
    if removed.is_empty() && added.is_empty() {
        return Err(AlterRefused::NothingNew);
    }
    judged(zone, removed, added, &present, around, today)
}

/// Decides that records are added, of whatever names and types, in one step with one new serial.
pub fn add_records(
    zone: &Document,
    added: Vec<Record>,
    around: &Surroundings,
    today: Date,
) -> Result<Altered, AlterRefused> {
    judged(zone, vec![], added, &[], around, today)
}

/// The edited zone, if it is not worse than before; `present` are the records that answers of before may have.
fn judged(
    zone: &Document,
    removed: Vec<Record>,
    added: Vec<Record>,
    present: &[Record],
    around: &Surroundings,
    today: Date,
) -> Result<Altered, AlterRefused> {
    let edited = if removed.is_empty() {
        zone.with_records(&added, today)?
    } else {
        zone.with_replaced(&removed, &added, today)?
    };
    let mut findings = judge_within(&edited, around);
    // A sound zone need not be judged as it was, nor by rules that have nothing against it now.
    if !findings.is_empty() {
        let before = judge_alike(&findings, zone, around);
        let known: HashSet<(&str, String)> = before.into_iter().map(|known| (known.code, known.message)).collect();
        findings.retain(|finding| !known.contains(&(finding.code, finding.message.clone())));
    }
    let breaks = |finding: &&Finding| finding.severity == Severity::Fault || REFUSED_RISKS.contains(&finding.code);
    if let Some(finding) = findings.iter().find(breaks) {
        return Err(AlterRefused::Breaks(finding.clone()));
    }
    // "No such name" and "no such data" are cached alike (RFC 2308 section 5).
    let old_answers_for = present.iter().map(|record| record.ttl).max().unwrap_or(zone.soa().negative_ttl);
    let facts = AlterFacts { serial: edited.soa().serial, removed, added, old_answers_for, findings };
    Ok(Altered { zone: edited, facts })
}

fn fresh(request: &AlterRequest, ttl: u32, data: &[RecordData]) -> Vec<Record> {
    let mut records: Vec<Record> = Vec::new();
    for data in data {
        let record = Record { owner: request.owner.clone(), ttl, data: data.clone() };
        if !records.contains(&record) {
            records.push(record);
        }
    }
    records
}

fn chosen(request: &AlterRequest, data: &[RecordData], present: &[Record]) -> Result<Vec<Record>, AlterRefused> {
    data.iter()
        .map(|wanted| {
            present.iter().find(|record| record.data == *wanted).cloned().ok_or_else(|| match present.is_empty() {
                true => nothing_there(request),
                false => AlterRefused::NotThere {
                    owner: request.owner.bare(),
                    record_type: request.record_type,
                    wanted: wanted.to_string(),
                    present: present.iter().map(|r| format!("`{}`", r.data)).collect::<Vec<_>>().join(", "),
                },
            })
        })
        .collect()
}

fn nothing_there(request: &AlterRequest) -> AlterRefused {
    AlterRefused::NothingThere { owner: request.owner.bare(), record_type: request.record_type }
}

/// The last `$TTL` of the zone, else that of its SOA record.
pub fn default_ttl(zone: &Document) -> u32 {
    let stated = zone.entries().iter().rev().find_map(|entry| match entry.item {
        Item::DefaultTtl(seconds) => Some(seconds),
        _ => None,
    });
    let soa = || zone.records().find(|record| record.record_type() == RecordType::SOA).map(|record| record.ttl);
    stated.or_else(soa).unwrap_or(3600)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::zone::data_as_meant;

    const TODAY: Date = Date::constant(2026, 11, 23);
    const ZONE: &str = "$TTL 3600\n@ SOA ns1 hostmaster 2026112301 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n\
                        @ A 192.0.2.2\n@ A 192.0.2.3\nwww 60 CNAME @\ndock NS ns1\n";

    fn zone() -> Document {
        Document::parse(ZONE, &DnsName::absolute("gullrock.example").unwrap()).unwrap()
    }

    fn asked(verb: &str, owner: &str, kind: &str, values: &[&str]) -> Result<Altered, AlterRefused> {
        let record_type = RecordType::parse(kind).unwrap();
        let owner = DnsName::parse(owner, zone().origin()).unwrap();
        let read = |value: &&str| data_as_meant(value, record_type, zone().origin()).unwrap().value;
        let data: Vec<RecordData> = values.iter().map(read).collect();
        let alteration = match verb {
            "add" => Alteration::Add { ttl: None, data },
            "replace" => Alteration::Replace { ttl: None, data },
            _ => Alteration::Remove { data },
        };
        alter(&zone(), &AlterRequest { owner, record_type, alteration }, &Surroundings::default(), TODAY)
    }

    fn code(verb: &str, owner: &str, kind: &str, values: &[&str]) -> String {
        match asked(verb, owner, kind, values).unwrap_err() {
            AlterRefused::Breaks(finding) => finding.code.to_string(),
            AlterRefused::Edit(error) => format!("edit: {error}"),
            other => other.to_string(),
        }
    }

    #[test]
    fn added_replaced_and_removed_with_the_ttl_of_the_set() {
        let added = asked("add", "@", "A", &["192.0.2.4", "192.0.2.5"]).unwrap();
        assert_eq!((added.facts.added.len(), added.facts.added[0].ttl, added.facts.old_answers_for), (2, 3600, 3600));
        assert_eq!(added.zone.soa().serial, 2026112302);
        let replaced = asked("replace", "@", "A", &["192.0.2.3", "192.0.2.9"]).unwrap();
        assert_eq!((replaced.facts.removed.len(), replaced.facts.added.len()), (1, 1), "what stays is left alone");
        let removed = asked("remove", "www", "CNAME", &[]).unwrap();
        assert_eq!((removed.facts.removed.len(), removed.facts.old_answers_for), (1, 60));
        assert_eq!(asked("add", "new", "TXT", &["hello"]).unwrap().facts.old_answers_for, 300, "the negative TTL");
    }

    #[test]
    fn what_would_break_the_zone_is_refused_with_the_rules_code() {
        assert_eq!(code("add", "@", "NS", &["ns2"]), "apex-nameserver-without-address");
        assert_eq!(code("add", "@", "NS", &["www"]), "nameserver-is-alias");
        assert_eq!(code("remove", "@", "NS", &[]), "no-nameserver");
        assert_eq!(code("remove", "ns1", "A", &[]), "apex-nameserver-without-address");
        assert_eq!(code("add", "@", "MX", &["10 www"]), "mail-server-unusable");
        assert_eq!(code("add", "quay", "NS", &["ns.quay"]), "glue-missing-in-zone");
        assert_eq!(code("add", "x_y", "A", &["192.0.2.9"]), "owner-not-a-hostname");
        assert!(code("add", "www", "TXT", &["x"]).contains("alias"));
        assert!(code("add", "boat.dock", "TXT", &["x"]).contains("delegation"));
        assert!(code("add", "@", "A", &["192.0.2.2"]).contains("already"));
        assert!(code("remove", "@", "SOA", &[]).contains("SOA record stays"));
    }

    #[test]
    fn a_change_is_seen_in_the_answer_of_a_server_or_not() {
        let (owner, record_type) = (DnsName::absolute("gullrock.example").unwrap(), RecordType::A);
        let address = |text: &str| RecordData::A(text.parse().unwrap());
        let data = vec![address("192.0.2.2")];
        let seen = |alteration: Alteration, texts: &[&str]| {
            let record = |text: &&str| Record { owner: owner.clone(), ttl: 60, data: address(text) };
            let answer: Vec<Record> = texts.iter().map(record).collect();
            AlterRequest { owner: owner.clone(), record_type, alteration }.is_seen_in(&answer)
        };
        let add = || Alteration::Add { ttl: None, data: data.clone() };
        assert!(seen(add(), &["192.0.2.9", "192.0.2.2"]) && !seen(add(), &["192.0.2.9"]));
        let replace = || Alteration::Replace { ttl: None, data: data.clone() };
        assert!(seen(replace(), &["192.0.2.2"]) && !seen(replace(), &["192.0.2.2", "192.0.2.9"]));
        assert!(!seen(Alteration::Remove { data: data.clone() }, &["192.0.2.2"]));
        assert!(seen(Alteration::Remove { data: data.clone() }, &["192.0.2.9"]));
        assert!(!seen(Alteration::Remove { data: vec![] }, &["192.0.2.9"]));
    }

    #[test]
    fn what_is_not_there_is_told_with_what_is() {
        assert_eq!(code("remove", "ftp", "A", &[]), "ftp.gullrock.example has no A record");
        assert_eq!(code("replace", "ftp", "A", &["192.0.2.1"]), "ftp.gullrock.example has no A record");
        assert_eq!(
            code("remove", "@", "A", &["192.0.2.99"]),
            "gullrock.example has no A record `192.0.2.99`; it has `192.0.2.2`, `192.0.2.3`"
        );
        assert_eq!(asked("replace", "@", "A", &["192.0.2.2", "192.0.2.3"]).unwrap_err(), AlterRefused::NothingNew);
    }
}
