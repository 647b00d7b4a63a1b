//! The rules that judge a zone: one file each, with its texts beside its check.
//!
//! A `fault` is what a primary server refuses to load; a `risk` loads and hurts. A check reads the indexed zone; it
//! asks nothing. `tests` reads this folder and fails if a rule is not registered, has no texts, or never fires.

mod alias_beside_data;
mod alias_circle;
mod alias_to_nothing;
mod apex_nameserver_without_address;
mod ca_forbidden;
mod cut_without_address;
mod dmarc_syntax;
mod dot_forgotten;
mod ds_at_apex;
mod former_address;
mod glue_missing_in_zone;
mod hidden_by_delegation;
mod leftover_placeholder;
mod mail_not_as_set;
mod mail_server_unusable;
mod nameserver_is_address;
mod nameserver_is_alias;
mod no_nameserver;
mod null_mx_beside_others;
mod out_of_zone;
mod owner_not_a_hash;
mod owner_not_a_hostname;
mod private_address;
mod repeated_zone_name;
mod second_dname;
mod service_target_without_address;
mod several_spf;
mod soa_mailbox;
mod soa_times;
mod spf_allows_everybody;
mod spf_syntax;
mod target_not_a_hostname;
mod text_without_value;
mod ttl_extreme;
mod ttls_differ;
mod wildcard_delegation;
mod www_without_apex;

pub use soa_times::soa_faults;

use std::collections::{HashMap, HashSet};
use std::net::IpAddr;
use std::sync::atomic::{AtomicUsize, Ordering};

use foldhash::fast::RandomState;

use super::{Document, Field, Record, RecordData, RecordType};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;

/// One rule: its texts, and the check that makes findings of it.
pub struct Rule {
    pub text: &'static RuleText,
    pub check: fn(&Indexed<'_>) -> Vec<Finding>,
}

/// What is known about a zone beside its records. Nothing, for a file anywhere.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Surroundings {
    /// The mail servers that the setting of the domain names; empty: it takes no mail.
    pub mail_servers: Option<Vec<DnsName>>,
    /// The names that the CA in the settings goes by in CAA records.
    pub ca_identities: Vec<String>,
    /// Addresses that sites were once served at and no longer are.
    pub former_addresses: Vec<IpAddr>,
}

/// A zone with its records found by owner. Made for millions of records: a few large tables, no small ones.
pub struct Indexed<'a> {
    pub zone: &'a Document,
    pub around: &'a Surroundings,
    /// The number of an owner's set of records.
    numbers: HashMap<&'a DnsName, u32, RandomState>,
    /// By number: the owner, and where its records end; they begin where those of the number before end.
    sets: Vec<(&'a DnsName, u32)>,
    /// All records, those of one owner together, owners and records in file order.
    records: Vec<&'a Record>,
    /// The names that are delegated to other nameservers.
    cuts: HashSet<&'a DnsName>,
}

/// In the order in which they are reported among findings of one severity.
pub const ALL: &[Rule] = &[
    no_nameserver::RULE,
    alias_beside_data::RULE,
    second_dname::RULE,
    owner_not_a_hostname::RULE,
    owner_not_a_hash::RULE,
    ds_at_apex::RULE,
    target_not_a_hostname::RULE,
    apex_nameserver_without_address::RULE,
    nameserver_is_alias::RULE,
    nameserver_is_address::RULE,
    wildcard_delegation::RULE,
    glue_missing_in_zone::RULE,
    cut_without_address::RULE,
    hidden_by_delegation::RULE,
    repeated_zone_name::RULE,
    alias_to_nothing::RULE,
    alias_circle::RULE,
    out_of_zone::RULE,
    dot_forgotten::RULE,
    mail_server_unusable::RULE,
    null_mx_beside_others::RULE,
    mail_not_as_set::RULE,
    ca_forbidden::RULE,
    former_address::RULE,
    service_target_without_address::RULE,
    several_spf::RULE,
    spf_syntax::RULE,
    spf_allows_everybody::RULE,
    dmarc_syntax::RULE,
    leftover_placeholder::RULE,
    text_without_value::RULE,
    soa_times::RULE,
    soa_mailbox::RULE,
    ttls_differ::RULE,
    private_address::RULE,
    www_without_apex::RULE,
    ttl_extreme::RULE,
];

/// From so many lines on, a second thread is worth its start.
const WORTH_TWO: usize = 20_000;

/// Everything a primary server would refuse the zone for.
pub fn judge_loading(zone: &Document) -> Vec<Finding> {
    let around = Surroundings::default();
    let indexed = Indexed::new(zone, &around);
    let faults = ALL.iter().filter(|rule| rule.text.severity == Severity::Fault);
    faults.flat_map(|rule| (rule.check)(&indexed)).collect()
}

/// All findings about a zone, the gravest first.
pub fn judge(zone: &Document) -> Vec<Finding> {
    judge_within(zone, &Surroundings::default())
}

/// The same, with what is known beside the zone.
pub fn judge_within(zone: &Document, around: &Surroundings) -> Vec<Finding> {
    let indexed = Indexed::new(zone, around);
    let mut findings: Vec<Finding> = match zone.entries().len() < WORTH_TWO {
        true => ALL.iter().flat_map(|rule| (rule.check)(&indexed)).collect(),
        false => side_by_side(&indexed),
    };
    findings.sort_by_key(|finding| finding.severity);
    findings
}

/// All rules, two at a time; the findings stay in the order of the rules.
fn side_by_side(zone: &Indexed<'_>) -> Vec<Finding> {
    let next = AtomicUsize::new(0);
    let work = || {
        let mut found = Vec::new();
        loop {
            let number = next.fetch_add(1, Ordering::Relaxed);
            let Some(rule) = ALL.get(number) else { return found };
            found.push((number, (rule.check)(zone)));
        }
    };
    let mut found = std::thread::scope(|scope| {
        let other = scope.spawn(work);
        let mut found = work();
        found.extend(other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)));
        found
    });
    found.sort_by_key(|(number, _)| *number);
    found.into_iter().flat_map(|(_, findings)| findings).collect()
}

impl<'a> Indexed<'a> {
    pub fn new(zone: &'a Document, around: &'a Surroundings) -> Self {
        // Room for three owners in four lines: a table that grows is built again and again.
        let likely = zone.entries().len() / 4 * 3;
        let mut numbers: HashMap<&DnsName, u32, RandomState> =
            HashMap::with_capacity_and_hasher(likely, RandomState::default());
        let mut sets: Vec<(&DnsName, u32)> = Vec::with_capacity(likely);
        let mut number_of_record = Vec::with_capacity(zone.entries().len());
        let mut cuts = HashSet::new();
        for record in zone.records() {
            let number = match number_of_record.last() {
                // The next record of the same owner, mostly.
                Some(&last) if *sets[last as usize].0 == record.owner => last,
                _ => *numbers.entry(&record.owner).or_insert_with(|| {
                    sets.push((&record.owner, 0));
                    sets.len() as u32 - 1
                }),
            };
            sets[number as usize].1 += 1;
            number_of_record.push(number);
            if record.record_type() == RecordType::NS && record.owner != *zone.origin() {
                cuts.insert(&record.owner);
            }
        }
        let mut end = 0;
        let mut places: Vec<u32> = Vec::with_capacity(sets.len());
        for (_, count) in &mut sets {
            places.push(end);
            end += *count;
            *count = end;
        }
        let mut records: Vec<&Record> = Vec::with_capacity(number_of_record.len());
        records.extend(zone.records());
        // Already in order where no owner stands in two places.
        if !number_of_record.is_sorted() {
            let in_file_order = records.clone();
            for (record, number) in in_file_order.into_iter().zip(number_of_record) {
                let place = &mut places[number as usize];
                records[*place as usize] = record;
                *place += 1;
            }
        }
        Self { zone, around, numbers, sets, records, cuts }
    }

    /// A finding with the place of the record that it is about.
    pub fn on(&self, record: &Record, finding: Finding) -> Finding {
        Finding { place: self.zone.place_of(record), ..finding }
    }

    /// The same where there may be none.
    pub fn on_any(&self, record: Option<&Record>, finding: Finding) -> Finding {
        match record {
            Some(record) => self.on(record, finding),
            None => finding,
        }
    }

    /// Which of two records comes later in the file.
    pub fn later<'r>(&self, one: &'r Record, other: &'r Record) -> &'r Record {
        let at = |record: &Record| self.zone.place_of(record).map(|place| (place.line, place.column));
        if at(one) > at(other) { one } else { other }
    }

    pub fn apex(&self) -> &DnsName {
        self.zone.origin()
    }

    /// All records, those of one owner together.
    pub fn records(&self) -> impl Iterator<Item = &'a Record> {
        self.records.iter().copied()
    }

    /// Every owner with its records.
    pub fn owners(&self) -> impl Iterator<Item = (&'a DnsName, &[&'a Record])> {
        (0..self.sets.len()).map(|number| (self.sets[number].0, self.set(number)))
    }

    fn set(&self, number: usize) -> &[&'a Record] {
        let start = if number == 0 { 0 } else { self.sets[number - 1].1 };
        &self.records[start as usize..self.sets[number].1 as usize]
    }

    pub fn at(&self, owner: &DnsName) -> &[&'a Record] {
        self.numbers.get(owner).map_or(&[], |number| self.set(*number as usize))
    }

    pub fn of_type(&self, owner: &DnsName, record_type: RecordType) -> impl Iterator<Item = &'a Record> {
        self.at(owner).iter().copied().filter(move |record| record.record_type() == record_type)
    }

    pub fn has_address(&self, owner: &DnsName) -> bool {
        self.at(owner).iter().any(|record| record.data.address().is_some())
    }

    pub fn is_alias(&self, owner: &DnsName) -> bool {
        self.at(owner).iter().any(|record| matches!(record.data, RecordData::Cname(_)))
    }

    /// The wildcard that gives answers for a name that is not there itself (RFC 4592 section 3.3.1).
    pub fn covering_wildcard(&self, name: &DnsName) -> Option<DnsName> {
        let mut at = name.parent();
        while let Some(here) = at.filter(|here| here.is_within(self.apex())) {
            let wildcard = DnsName::parse("*", &here).ok()?;
            if !self.at(&wildcard).is_empty() {
                return Some(wildcard);
            }
            at = here.parent();
        }
        None
    }

    /// The delegation that the name lies at or below, the apex not counted.
    pub fn cut_above(&self, name: &DnsName) -> Option<DnsName> {
        if self.cuts.is_empty() {
            return None;
        }
        let mut found = None;
        let mut at = Some(name.clone());
        while let Some(here) = at.filter(|here| here.is_within(self.apex()) && here != self.apex()) {
            if self.cuts.contains(&here) {
                found = Some(here.clone());
            }
            at = here.parent();
        }
        found
    }
}

/// The hosts that a record points to.
fn targets(record: &Record) -> impl Iterator<Item = &DnsName> {
    let target = match &record.data {
        RecordData::Ns(name) | RecordData::Mx { exchange: name, .. } => Some(name),
        RecordData::Soa(soa) => Some(&soa.primary),
        RecordData::Fields { record_type: RecordType(33), fields } => fields.iter().find_map(|field| match field {
            Field::Name(name) => Some(name),
            _ => None,
        }),
        _ => None,
    };
    target.into_iter()
}

/// Whether every label is made of letters, digits and hyphens; a wildcard may stand first in an owner.
fn is_hostname(name: &DnsName, owner: bool) -> bool {
    let sound = |label: &[u8]| {
        let edge = |byte: Option<&u8>| byte.is_some_and(u8::is_ascii_alphanumeric);
        edge(label.first())
            && edge(label.last())
            && label.iter().all(|byte| byte.is_ascii_alphanumeric() || *byte == b'-')
    };
    name.labels().enumerate().all(|(index, label)| sound(label) || (owner && index == 0 && label == b"*"))
}

#[cfg(test)]
mod tests;
