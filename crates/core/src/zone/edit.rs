//! Edits of a zone document: only the lines concerned change, and the serial.
//!
//! Every edit returns a new document, parsed again from its bytes, so that what is written is also what is read.

use std::hash::{DefaultHasher, Hash, Hasher};
use std::ops::Range;

use jiff::civil::Date;

use super::{Document, Entry, Item, Record, RecordData, RecordType, Soa, ZoneError, next_serial};

/// Why an edit was refused; the document is unchanged.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    #[error("{0} lies outside the zone {1}")]
    OutOfZone(String, String),
    #[error("the zone already has the record `{0}`")]
    Duplicate(String),
    #[error("{owner} is an alias (CNAME), which allows no other data beside it (RFC 1034 section 3.6.2)")]
    BesideAlias { owner: String },
    #[error("{owner} has {present} data, and an alias (CNAME) allows no other data beside it (RFC 1034 section 3.6.2)")]
    AliasBeside { owner: String, present: RecordType },
    #[error("{owner} lies below the delegation of {cut}; the record belongs into that zone")]
    BelowDelegation { owner: String, cut: String },
    #[error("other records take their TTL from this line; put a `$TTL` line at the top of the zone first")]
    OthersChange,
    #[error("the SOA record stays; a zone cannot be without it")]
    Soa,
    #[error("line {line} is a $GENERATE line, which stands for several records; change it by hand")]
    NotALine { line: usize },
    #[error("the record stands in an included file; change it there")]
    Elsewhere,
    #[error("the SOA record stands in an included file; its serial must be raised there")]
    SoaIncluded,
    #[error("the edited zone would not be readable: {0}")]
    Unreadable(ZoneError),
}

impl Document {
    /// Adds records, each behind the last record of its owner or else at the end, and raises the serial.
    ///
    /// Refuses what would break the zone: data outside it, beside an alias, below a delegation, or there already.
    pub fn with_records(&self, records: &[Record], today: Date) -> Result<Document, EditError> {
        for record in records {
            self.refuse_unfit(record)?;
        }
        self.spliced(self.additions(records), records, &[], None, today)
    }

    /// Takes records away, and raises the serial. They must stand in lines of this file.
    pub fn without_records(&self, records: &[Record], today: Date) -> Result<Document, EditError> {
        self.spliced(self.removals(records)?, &[], records, None, today)
    }

    /// Takes some records away and adds others in one step, and raises the serial.
    pub fn with_replaced(&self, old: &[Record], new: &[Record], today: Date) -> Result<Document, EditError> {
        self.with_changes(old, new, None, today)
    }

    /// The same, with other values in the start of authority; its serial is raised as ever, whatever `soa` says.
    pub fn with_changes(
        &self,
        old: &[Record],
        new: &[Record],
        soa: Option<&Soa>,
        today: Date,
    ) -> Result<Document, EditError> {
        // Whole lines come before the owner that a following line may have to be given at the same place.
        let mut splices = self.additions(new);
        splices.extend(self.removals(old)?);
        self.spliced(splices, new, old, soa, today)
    }

    fn additions(&self, records: &[Record]) -> Vec<(Range<usize>, String)> {
        let line = |record: &Record| {
            let at = self.place_for(record);
            let owner = self.owner_text_at(at, record);
            let text = format!("{owner}\t{}\tIN\t{}\t{}\n", record.ttl, record.record_type(), record.data);
            (at..at, self.on_own_line(at, text))
        };
        records.iter().map(line).collect()
    }

    fn removals(&self, records: &[Record]) -> Result<Vec<(Range<usize>, String)>, EditError> {
        let is_meant = |record: &Record| records.contains(record);
        let mut splices = Vec::new();
        let mut orphaned: Option<String> = None;
        let mut found = 0;
        for entry in &self.entries {
            match &entry.item {
                Item::Record(record) if is_meant(record) => {
                    if record.record_type() == RecordType::SOA {
                        return Err(EditError::Soa);
                    }
                    found += 1;
                    splices.push((entry.span.clone(), String::new()));
                    if !self.leaves_owner_out(entry) {
                        orphaned = Some(self.owner_text_at(entry.span.start, record));
                    }
                }
                Item::Record(_) => {
                    // A line that took its owner from the one that goes must say it itself now.
                    if let Some(owner) = orphaned.take().filter(|_| self.leaves_owner_out(entry)) {
                        splices.push((entry.span.start..entry.span.start, owner));
                    }
                }
                Item::Generate(generated) if generated.iter().any(is_meant) => {
                    return Err(EditError::NotALine { line: entry.line });
                }
                _ => {}
            }
        }
        let distinct: std::collections::HashSet<&Record> = records.iter().collect();
        if found < distinct.len() { Err(EditError::Elsewhere) } else { Ok(splices) }
    }

    fn leaves_owner_out(&self, entry: &Entry) -> bool {
        matches!(self.source[entry.span.start], b' ' | b'\t')
    }

    /// Puts texts in place of spans and raises the serial; what comes of it is read again.
    fn spliced(
        &self,
        mut splices: Vec<(Range<usize>, String)>,
        added: &[Record],
        removed: &[Record],
        soa: Option<&Soa>,
        today: Date,
    ) -> Result<Document, EditError> {
        splices.extend(self.soa_values(soa, today)?);
        // A stable sort keeps the given order of records that go to the same place.
        splices.sort_by_key(|(span, _)| span.start);
        let mut bytes = Vec::with_capacity(self.source().len() + 80 * splices.len());
        let mut done = 0;
        for (span, text) in splices {
            bytes.extend_from_slice(&self.source()[done..span.start]);
            bytes.extend_from_slice(text.as_bytes());
            done = span.end;
        }
        bytes.extend_from_slice(&self.source()[done..]);
        let edited = self.again(bytes).map_err(EditError::Unreadable)?;
        let expected = self.records().filter(|record| !removed.contains(record)).chain(added);
        if digests(expected) == digests(edited.records()) { Ok(edited) } else { Err(EditError::OthersChange) }
    }

    /// The values of the start of authority that change, each in its place: the serial always does.
    fn soa_values(&self, wanted: Option<&Soa>, today: Date) -> Result<Vec<(Range<usize>, String)>, EditError> {
        let [primary, hostmaster, serial, times @ ..] = self.soa_spans.clone().ok_or(EditError::SoaIncluded)?;
        let present = self.soa();
        let mut splices = vec![(serial, next_serial(present.serial, today).to_string())];
        let Some(wanted) = wanted else { return Ok(splices) };
        for (span, old, new) in
            [(primary, &present.primary, &wanted.primary), (hostmaster, &present.hostmaster, &wanted.hostmaster)]
        {
            if old != new {
                splices.push((span, new.to_string()));
            }
        }
        let numbers = |soa: &Soa| [soa.refresh, soa.retry, soa.expire, soa.negative_ttl];
        for ((span, old), new) in times.into_iter().zip(numbers(present)).zip(numbers(wanted)) {
            if old != new {
                splices.push((span, new.to_string()));
            }
        }
        Ok(splices)
    }

    fn refuse_unfit(&self, record: &Record) -> Result<(), EditError> {
        let owner = &record.owner;
        if !owner.is_within(self.origin()) {
            return Err(EditError::OutOfZone(owner.bare(), self.origin().bare()));
        }
        for present in self.records() {
            if present.owner == *owner {
                if present.data == record.data {
                    return Err(EditError::Duplicate(record.to_string()));
                }
                let alias = |r: &Record| r.record_type() == RecordType::CNAME;
                if alias(present) {
                    return Err(EditError::BesideAlias { owner: owner.bare() });
                }
                if alias(record) {
                    let present = present.record_type();
                    return Err(EditError::AliasBeside { owner: owner.bare(), present });
                }
            }
            let is_cut = present.record_type() == RecordType::NS && present.owner != *self.origin();
            if is_cut && owner.is_within(&present.owner) && record.record_type() != RecordType::NS {
                let is_glue = self.records().any(|r| r.data == RecordData::Ns(owner.clone()));
                if !(is_glue && record.data.address().is_some()) {
                    return Err(EditError::BelowDelegation { owner: owner.bare(), cut: present.owner.bare() });
                }
            }
        }
        Ok(())
    }

    /// Behind the last record of the same owner; behind everything if there is none.
    fn place_for(&self, record: &Record) -> usize {
        let last = self
            .entries()
            .iter()
            .rev()
            .find(|entry| matches!(&entry.item, Item::Record(present) if present.owner == record.owner));
        last.map_or(self.source().len(), |entry| entry.span.end)
    }

    /// The owner as written at this place. It is always written out, relative to the zone only while no other
    /// `$ORIGIN` is in force there.
    fn owner_text_at(&self, at: usize, record: &Record) -> String {
        let origin =
            self.entries().iter().take_while(|entry| entry.span.start < at).filter_map(|entry| match &entry.item {
                Item::Origin(name) => Some(name),
                _ => None,
            });
        let in_force = origin.last().unwrap_or(self.origin());
        record.owner.relative_to(in_force).unwrap_or_else(|| record.owner.to_string())
    }

    fn on_own_line(&self, at: usize, text: String) -> String {
        let behind_newline = at == 0 || self.source()[at - 1] == b'\n';
        if behind_newline { text } else { format!("\n{}", text.trim_end_matches('\n')) }
    }
}

/// All records but the SOA, whose serial changes, in a form that compares quickly whatever their order.
fn digests<'a>(records: impl Iterator<Item = &'a Record>) -> Vec<u64> {
    let others = records.filter(|record| record.record_type() != RecordType::SOA);
    let mut digests: Vec<u64> = others
        .map(|record| {
            let mut hasher = DefaultHasher::new();
            record.hash(&mut hasher);
            hasher.finish()
        })
        .collect();
    digests.sort_unstable();
    digests
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::DnsName;

    const TODAY: Date = Date::constant(2026, 11, 23);
    const BOATYARD: &str = "$TTL 3600\n\
@ IN SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. ( 2026112001 ; serial\n  14400 1800 2419200 300 )\n\
@ IN NS ns1.saltmarsh.example.\n\
@ IN A 192.0.2.30 ; slipway\n\
\n\
; below: kept by the harbour master\n\
crane IN CNAME @\n\
dock IN NS ns1.dock\n";

    fn zone() -> Document {
        Document::parse(BOATYARD, &DnsName::absolute("gullrock.example").unwrap()).unwrap()
    }

    fn address(owner: &str, text: &str) -> Record {
        let owner = DnsName::absolute(owner).unwrap();
        Record { owner, ttl: 3600, data: RecordData::A(text.parse().unwrap()) }
    }

    #[test]
    fn only_the_new_line_and_the_serial_differ() {
        let edited = zone().with_records(&[address("shop.gullrock.example", "192.0.2.31")], TODAY).unwrap();
        let expected = BOATYARD.replace("2026112001", "2026112301") + "shop\t3600\tIN\tA\t192.0.2.31\n";
        assert_eq!(String::from_utf8_lossy(edited.source()), expected);
    }

    #[test]
    fn a_second_address_goes_beside_the_first() {
        let edited = zone().with_records(&[address("gullrock.example", "192.0.2.32")], TODAY).unwrap();
        let text = String::from_utf8_lossy(edited.source()).into_owned();
        assert!(text.contains("slipway\n@\t3600\tIN\tA\t192.0.2.32\n\n; below"), "{text}");
    }

    #[test]
    fn a_file_without_final_newline_and_another_origin_are_minded() {
        let source = format!("{BOATYARD}$ORIGIN quay.gullrock.example.\nend 60 A 192.0.2.33");
        let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let edited = zone.with_records(&[address("shop.gullrock.example", "192.0.2.31")], TODAY).unwrap();
        let text = String::from_utf8_lossy(edited.source()).into_owned();
        assert!(text.ends_with("end 60 A 192.0.2.33\nshop.gullrock.example.\t3600\tIN\tA\t192.0.2.31"), "{text}");
    }

    #[test]
    fn what_would_break_the_zone_is_refused() {
        let refused = |record: Record| zone().with_records(&[record], TODAY).unwrap_err();
        assert!(matches!(refused(address("gullrock.example", "192.0.2.30")), EditError::Duplicate(_)));
        assert!(matches!(refused(address("crane.gullrock.example", "192.0.2.1")), EditError::BesideAlias { .. }));
        assert!(matches!(
            refused(address("boat.dock.gullrock.example", "192.0.2.1")),
            EditError::BelowDelegation { .. }
        ));
        assert!(matches!(refused(address("choir.example", "192.0.2.1")), EditError::OutOfZone(..)));
        let glue = address("ns1.dock.gullrock.example", "192.0.2.34");
        assert!(zone().with_records(&[glue], TODAY).is_ok(), "glue may stand below the cut");
    }

    #[test]
    fn a_line_that_took_its_owner_from_the_removed_one_says_it_itself() {
        let source = format!("{BOATYARD}www A 192.0.2.40\n\t\tTXT \"slipway\" ; kept\n\tA 192.0.2.41\n");
        let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let edited = zone.without_records(&[address("www.gullrock.example", "192.0.2.40")], TODAY).unwrap();
        let text = String::from_utf8_lossy(edited.source()).into_owned();
        assert!(text.ends_with("dock IN NS ns1.dock\nwww\t\tTXT \"slipway\" ; kept\n\tA 192.0.2.41\n"), "{text}");
    }

    #[test]
    fn one_record_in_place_of_another_and_what_cannot_be_taken_away() {
        let old = address("gullrock.example", "192.0.2.30");
        let new = address("gullrock.example", "192.0.2.50");
        let edited = zone().with_replaced(std::slice::from_ref(&old), &[new], TODAY).unwrap();
        let text = String::from_utf8_lossy(edited.source()).into_owned();
        assert!(text.contains("@\t3600\tIN\tA\t192.0.2.50\n") && !text.contains("192.0.2.30"), "{text}");
        let soa = zone().records().next().unwrap().clone();
        assert_eq!(zone().without_records(&[soa], TODAY).unwrap_err(), EditError::Soa);
        let generated = format!("{BOATYARD}$GENERATE 1-2 b$ A 192.0.2.$\n");
        let generated = Document::parse(generated, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let refused = generated.without_records(&[address("b1.gullrock.example", "192.0.2.1")], TODAY);
        assert_eq!(refused.unwrap_err(), EditError::NotALine { line: 10 });
    }

    #[test]
    fn an_edit_that_would_change_the_ttl_of_another_record_is_refused() {
        let source = "@ 60 SOA ns1 host 7 4 3 2 1\n@ 60 NS ns1\nns1 300 A 192.0.2.1\nwww A 192.0.2.2\n";
        let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
        let first = zone.records().nth(2).unwrap().clone();
        assert_eq!(zone.without_records(&[first], TODAY).unwrap_err(), EditError::OthersChange);
    }

    proptest::proptest! {
        /// Whatever is taken away or added: the other records, their TTLs included, stay as they were.
        #[test]
        fn an_edit_changes_nothing_else(
            lines in proptest::collection::vec((0..4_usize, proptest::bool::ANY, 1..250_u8), 1..12),
            gone in 0..12_usize,
        ) {
            let owners = ["www", "ftp", "dock.quay", "@"];
            let mut source = "$TTL 3600\n@ SOA ns1 host 7 4 3 2 1\n@ NS ns1\n".to_string();
            for (owner, omit, last) in &lines {
                let owner = if *omit { "" } else { owners[*owner] };
                source.push_str(&format!("{owner}\tA 192.0.2.{last}\n"));
            }
            let zone = Document::parse(source, &DnsName::absolute("gullrock.example").unwrap()).unwrap();
            let records: Vec<Record> = zone.records().skip(2).cloned().collect();
            let victim = records[gone % records.len()].clone();
            let edited = zone.without_records(std::slice::from_ref(&victim), TODAY).unwrap();
            let left: Vec<Record> = edited.records().skip(2).cloned().collect();
            let wanted: Vec<Record> = records.iter().filter(|record| **record != victim).cloned().collect();
            proptest::prop_assert_eq!(left, wanted);
        }
    }
}
