//! Edits of a zone document: only the lines concerned change, and the serial.
//!
//! Every edit returns a new document, parsed again from its bytes, so that what is written is also what is read.

use std::ops::Range;

use jiff::civil::Date;

use super::{Document, Item, Record, RecordData, RecordType, ZoneError, next_serial};

/// Why an edit was refused; the document is unchanged.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    #[error("{0} lies outside the zone {1}")]
    OutOfZone(String, String),
    #[error("the zone already has the record `{0}`")]
    Duplicate(String),
    #[error("{owner} is an alias (CNAME), which allows no other data beside it (RFC 1034 section 3.6.2)")]
    BesideAlias { owner: String },
    #[error("{owner} lies below the delegation of {cut}; the record belongs into that zone")]
    BelowDelegation { owner: String, cut: String },
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
        let mut splices: Vec<(usize, String)> = Vec::new();
        for record in records {
            self.refuse_unfit(record)?;
            let at = self.place_for(record);
            let owner = self.owner_text_at(at, record);
            let text = format!("{owner}\t{}\tIN\t{}\t{}\n", record.ttl, record.record_type(), record.data);
            splices.push((at, text));
        }
        let mut bytes = Vec::with_capacity(self.source().len() + 80 * records.len());
        let serial_span = self.serial.clone().ok_or(EditError::SoaIncluded)?;
        let serial = next_serial(self.soa().serial, today).to_string();
        // A stable sort keeps the given order of records that go to the same place.
        splices.sort_by_key(|(at, _)| *at);
        let mut replaced: Vec<(Range<usize>, String)> =
            splices.into_iter().map(|(at, text)| (at..at, self.on_own_line(at, text))).collect();
        replaced.push((serial_span, serial));
        replaced.sort_by_key(|(span, _)| span.start);
        let mut done = 0;
        for (span, text) in replaced {
            bytes.extend_from_slice(&self.source()[done..span.start]);
            bytes.extend_from_slice(text.as_bytes());
            done = span.end;
        }
        bytes.extend_from_slice(&self.source()[done..]);
        Document::parse(bytes, self.origin()).map_err(EditError::Unreadable)
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
                if alias(present) || alias(record) {
                    return Err(EditError::BesideAlias { owner: owner.bare() });
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
}
