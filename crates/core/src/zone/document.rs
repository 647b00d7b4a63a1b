//! A master file as a document: every byte is kept, and each logical line knows what it says.
//!
//! Holding and asking only: `parse` reads one, `edit` changes the lines concerned.

use std::cell::RefCell;
use std::collections::HashMap;
use std::ops::Range;

use super::error::ZoneError;
use super::parse::{Fetch, Parser, SoaPlaces};
use super::{Record, RecordData, RecordType, Soa, serial_is_newer};
use crate::finding::Place;
use crate::name::DnsName;

/// A parsed master file. [`Document::source`] is the file, byte for byte.
#[derive(Debug, Clone)]
pub struct Document {
    pub(super) source: Vec<u8>,
    pub(super) origin: DnsName,
    pub(super) entries: Vec<Entry>,
    /// Where the values of the SOA record stand in the source, if they stand there.
    pub(super) soa_places: SoaPlaces,
    /// The files that were followed, by name as written: an edit reads its result with the same ones.
    pub(super) included: HashMap<String, Vec<u8>>,
    /// The newest serial that a server is known to have, where it is newer than that of the document.
    pub(super) served_serial: Option<u32>,
    /// Whether a server gave it, which signs what it is sent.
    pub(super) of_server: bool,
}

/// One logical line that says something (blank and comment lines have no entry).
#[derive(Debug, Clone)]
pub struct Entry {
    start: usize,
    /// Small: a zone has millions of these. No file is read that has more lines, or a longer one.
    length: u32,
    line: u32,
    pub item: Item,
}

impl Entry {
    pub(super) fn new(span: &Range<usize>, line: usize, item: Item) -> Self {
        Self { start: span.start, length: span.len() as u32, line: line as u32, item }
    }

    /// Its bytes in the source, line end included.
    pub fn span(&self) -> Range<usize> {
        self.start..self.start + self.length as usize
    }

    /// The line it starts on, from 1.
    pub fn line(&self) -> usize {
        self.line as usize
    }
}

#[derive(Debug, Clone)]
pub enum Item {
    Origin(DnsName),
    DefaultTtl(u32),
    /// `$INCLUDE`: the file as named, and what stands in it if it was followed.
    Include {
        file: Box<str>,
        entries: Box<[Entry]>,
    },
    /// `$DATE`, as BIND writes it into dumps: since when its TTLs count down.
    Dated,
    /// `$GENERATE`: the records it stands for.
    Generate(Vec<Record>),
    Record(Record),
    /// A record outside the zone, which servers pass over.
    OutOfZone(DnsName),
}

impl Document {
    /// Reads the master file of the zone `origin`. `$INCLUDE` lines are kept and not followed.
    pub fn parse(source: impl Into<Vec<u8>>, origin: &DnsName) -> Result<Self, ZoneError> {
        Self::read(source.into(), Parser::new(origin, None))
    }

    /// The same, following `$INCLUDE` lines; `fetch` gives the content of a file that is named there.
    pub fn parse_with(source: impl Into<Vec<u8>>, origin: &DnsName, fetch: &mut Fetch<'_>) -> Result<Self, ZoneError> {
        let fetched = RefCell::new(HashMap::new());
        let mut keep = |name: &str| {
            let content = fetch(name)?;
            fetched.borrow_mut().insert(name.to_string(), content.clone());
            Ok(content)
        };
        let read = Self::read(source.into(), Parser::new(origin, Some(&mut keep)));
        read.map(|document| Self { included: fetched.take(), ..document })
    }

    /// A server was seen with this serial: the next one of the document is newer than that, too.
    pub fn seen_with(self, serial: Option<u32>) -> Self {
        let newer = serial.filter(|serial| serial_is_newer(*serial, self.soa().serial));
        Self { served_serial: newer.or(self.served_serial), ..self }
    }

    /// The document of a zone that came as records, as by a transfer: one line each.
    pub fn of_records(records: &[Record], origin: &DnsName) -> Result<Self, ZoneError> {
        let mut text = String::new();
        for record in records {
            text.push_str(&record.to_string());
            text.push('\n');
        }
        Ok(Self { of_server: true, ..Self::parse(text, origin)? })
    }

    /// Whether it has signatures: then it was made by a signer, out of another file.
    pub fn is_signed(&self) -> bool {
        self.records().any(|record| record.record_type() == RecordType::RRSIG)
    }

    /// Reads another text of the same zone, with the included files as this one had them.
    pub(super) fn again(&self, source: Vec<u8>) -> Result<Self, ZoneError> {
        let mut fetch = |name: &str| self.included.get(name).cloned().ok_or_else(|| "it was not read before".into());
        let read = match self.included.is_empty() {
            true => Self::parse(source, &self.origin),
            false => Self::parse_with(source, &self.origin, &mut fetch),
        };
        Ok(Self { of_server: self.of_server, ..read? })
    }

    fn read(source: Vec<u8>, mut parser: Parser<'_, '_>) -> Result<Self, ZoneError> {
        let entries = super::parse_large::parse(&mut parser, &source)?;
        let (origin, soa_places) = parser.finish(&source)?;
        Ok(Self {
            source,
            origin,
            entries,
            soa_places,
            included: HashMap::new(),
            served_serial: None,
            of_server: false,
        })
    }

    /// The text, in a process that ends soon: the records are left until then, since giving them back one by one would take
    /// longer than reading them.
    pub fn leave_to_the_end(self) -> Vec<u8> {
        std::mem::forget(self.entries);
        self.source
    }

    /// The file as it was read, byte for byte.
    pub fn source(&self) -> &[u8] {
        &self.source
    }

    pub fn origin(&self) -> &DnsName {
        &self.origin
    }

    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// The name at or above this one, below the apex, that the zone delegates to others: what lies there is another zone's
    /// affair (RFC 9499 section 7, "zone cut").
    pub fn cut_above(&self, name: &DnsName) -> Option<DnsName> {
        let mut cuts: Vec<&DnsName> = self
            .records()
            .filter(|record| record.record_type() == RecordType::NS && record.owner != self.origin)
            .map(|record| &record.owner)
            .filter(|cut| name.is_within(cut))
            .collect();
        // The one that is met first on the way down.
        cuts.sort_by_key(|cut| cut.labels().count());
        cuts.first().map(|cut| (*cut).clone())
    }

    /// Where a record of this document stands in its file, counted from 1; none for what comes from included files or from
    /// `$GENERATE`. It must be a record that [`Document::records`] has given.
    pub fn place_of(&self, record: &Record) -> Option<Place> {
        // The lines lie one behind the other in memory: the last that does not begin behind the record holds it.
        let address = std::ptr::from_ref(record).addr();
        let behind = self.entries.partition_point(|entry| std::ptr::from_ref(entry).addr() <= address);
        let entry = self.entries.get(behind.checked_sub(1)?)?;
        let Item::Record(held) = &entry.item else { return None };
        if !std::ptr::eq(held, record) {
            return None;
        }
        // What is said is said of the data; the owner may stand lines above.
        let line_start = self.source[..entry.start].iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        Some(Place { line: entry.line(), column: 1 + entry.start - line_start })
    }

    /// The records as a server gives them: all of a set have the TTL of its first one (RFC 2181 section 5.2 allows no other;
    /// servers take the first).
    pub fn served_records(&self) -> Vec<Record> {
        let mut first = HashMap::new();
        for record in self.records() {
            first.entry(record.set()).or_insert(record.ttl);
        }
        let ttl = |record: &Record| first.get(&record.set()).copied().unwrap_or(record.ttl);
        self.records().map(|record| Record { ttl: ttl(record), ..record.clone() }).collect()
    }

    /// The sets whose records have several times to live in the file: servers give all of them the first one.
    pub fn merged_ttls(&self) -> Vec<(DnsName, RecordType)> {
        let mut merged: Vec<(DnsName, RecordType)> = Vec::new();
        for (record, served) in self.records().zip(self.served_records()) {
            let set = (record.owner.clone(), record.record_type());
            if record.ttl != served.ttl && !merged.contains(&set) {
                merged.push(set);
            }
        }
        merged
    }

    /// The records in file order, those of included files and generated ones in their place.
    pub fn records(&self) -> impl Iterator<Item = &Record> {
        records_of(&self.entries)
    }

    /// The SOA record itself.
    pub fn soa_record(&self) -> Option<&Record> {
        self.records().find(|record| matches!(record.data, RecordData::Soa(_)))
    }

    pub fn soa(&self) -> &Soa {
        self.records()
            .find_map(|record| match &record.data {
                RecordData::Soa(soa) => Some(soa),
                _ => None,
            })
            .expect("parse refuses a zone without SOA")
    }
}

/// The records of some lines, those of included files and generated ones in their place.
pub(super) fn records_of(entries: &[Entry]) -> impl Iterator<Item = &Record> {
    let mut open = vec![entries.iter()];
    let mut generated: std::slice::Iter<'_, Record> = [].iter();
    std::iter::from_fn(move || {
        loop {
            if let Some(record) = generated.next() {
                return Some(record);
            }
            let Some(entry) = open.last_mut()?.next() else {
                open.pop();
                continue;
            };
            match &entry.item {
                Item::Record(record) => return Some(record),
                Item::Generate(records) => generated = records.iter(),
                Item::Include { entries, .. } => open.push(entries.iter()),
                _ => {}
            }
        }
    })
}

#[cfg(test)]
#[path = "document_tests.rs"]
mod tests;
