//! A zone with its records found by owner, and by what the DNS makes of owners: wildcards, cuts, names between others. For the
//! rules (`rules/`), which judge it; made anew where the zone has changed.

use std::collections::HashSet;
use std::hash::BuildHasher;
use std::sync::OnceLock;

use foldhash::fast::RandomState;
use hashbrown::HashTable;

use super::rules::Surroundings;
use super::{Document, Record, RecordData, RecordType};
use crate::finding::Finding;
use crate::name::DnsName;

/// A zone with its records found by owner. Made for millions of records: a few large tables, no small ones.
pub struct Indexed<'a> {
    pub zone: &'a Document,
    pub around: &'a Surroundings,
    /// The number of an owner's set of records; the owner itself stands with the set.
    numbers: HashTable<u32>,
    hashing: RandomState,
    /// By number: the owner, and where its records end; they begin where those of the number before end.
    sets: Vec<(&'a DnsName, u32)>,
    /// All records, those of one owner together, owners and records in file order.
    records: Vec<&'a Record>,
    /// The names that are delegated to other nameservers.
    cuts: HashSet<&'a DnsName>,
    has_wildcards: bool,
    /// The names that have no records, and names below them that do; made when it is first asked for.
    between: OnceLock<HashSet<DnsName>>,
}

impl<'a> Indexed<'a> {
    pub fn new(zone: &'a Document, around: &'a Surroundings) -> Self {
        // Room for three owners in four lines: a table that grows is built again and again.
        let likely = zone.entries().len() / 4 * 3;
        let (mut numbers, hashing) = (HashTable::with_capacity(likely), RandomState::default());
        let mut sets: Vec<(&DnsName, u32)> = Vec::with_capacity(likely);
        let mut number_of_record = Vec::with_capacity(zone.entries().len());
        let (mut cuts, mut has_wildcards) = (HashSet::new(), false);
        for record in zone.records() {
            let number = match number_of_record.last() {
                // The next record of the same owner, mostly.
                Some(&last) if *sets[last as usize].0 == record.owner => last,
                _ => {
                    let hash = hashing.hash_one(&record.owner);
                    let known = numbers.find(hash, |number: &u32| *sets[*number as usize].0 == record.owner);
                    known.copied().unwrap_or_else(|| {
                        let number = sets.len() as u32;
                        sets.push((&record.owner, 0));
                        numbers.insert_unique(hash, number, |number| hashing.hash_one(sets[*number as usize].0));
                        has_wildcards |= record.owner.labels().next() == Some(b"*");
                        number
                    })
                }
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
        if number_of_record.is_sorted() {
            // In order where no owner stands in two places.
            records.extend(zone.records());
        } else if let Some(first) = zone.records().next() {
            records.resize(number_of_record.len(), first);
            for (record, number) in zone.records().zip(number_of_record) {
                let place = &mut places[number as usize];
                records[*place as usize] = record;
                *place += 1;
            }
        }
        Self { zone, around, numbers, hashing, sets, records, cuts, has_wildcards, between: OnceLock::new() }
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
        let is_there = |number: &u32| self.sets[*number as usize].0 == owner;
        self.numbers.find(self.hashing.hash_one(owner), is_there).map_or(&[], |number| self.set(*number as usize))
    }

    pub fn of_type(&self, owner: &DnsName, record_type: RecordType) -> impl Iterator<Item = &'a Record> {
        self.at(owner).iter().copied().filter(move |record| record.record_type() == record_type)
    }

    /// The records that answer for a name: its own, or those of a wildcard.
    fn answering(&self, name: &DnsName) -> &[&'a Record] {
        match self.at(name) {
            [] => self.covering_wildcard(name).map_or(&[], |wildcard| self.at(&wildcard)),
            own => own,
        }
    }

    pub fn has_address(&self, name: &DnsName) -> bool {
        self.answering(name).iter().any(|record| record.data.address().is_some())
    }

    pub fn is_alias(&self, name: &DnsName) -> bool {
        self.answering(name).iter().any(|record| matches!(record.data, RecordData::Cname(_)))
    }

    /// The wildcard that gives answers for a name that is not there itself, nor any name between the two (RFC 4592 section
    /// 3.3.1).
    pub fn covering_wildcard(&self, name: &DnsName) -> Option<DnsName> {
        if !self.has_wildcards {
            return None;
        }
        let mut above = vec![name.clone()];
        while let Some(here) = above[above.len() - 1].parent().filter(|here| here.is_within(self.apex())) {
            let wildcard = DnsName::parse("*", &here).ok()?;
            if !self.at(&wildcard).is_empty() {
                return (!above.iter().any(|name| self.exists(name))).then_some(wildcard);
            }
            above.push(here);
        }
        None
    }

    /// Whether the name has records, or names below it that do (RFC 4592 section 2.2.2).
    fn exists(&self, name: &DnsName) -> bool {
        let between = || {
            let mut between = HashSet::new();
            for (owner, _) in &self.sets {
                let mut at = owner.parent();
                while let Some(here) = at.filter(|here| here != self.apex() && here.is_within(self.apex())) {
                    at = here.parent();
                    if !between.insert(here) {
                        break;
                    }
                }
            }
            between
        };
        !self.at(name).is_empty() || self.between.get_or_init(between).contains(name)
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
