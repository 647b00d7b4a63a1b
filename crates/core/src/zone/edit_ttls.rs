//! Gives records other times to live, each in its place: the rest of its line stays as it was written, comments included.
//! Other edits are in `edit`.

use std::ops::Range;

use jiff::civil::Date;

use super::EditError;
use super::edit::Digest;
use super::token::{LogicalLine, logical_line};
use super::{Document, Entry, Item, Record, RecordType, parse_ttl};

impl Document {
    /// Gives each record the time to live that `wanted` names for it, in seconds, and raises the serial. The start of
    /// authority is left alone.
    ///
    /// # Errors
    ///
    /// [`EditError`] where such a record stands in no line of this file.
    pub fn with_ttls(&self, wanted: impl Fn(&Record) -> Option<u32>, today: Date) -> Result<Document, EditError> {
        let changes = |record: &Record| match record.record_type() {
            RecordType::SOA => None,
            _ => wanted(record).filter(|ttl| *ttl != record.ttl),
        };
        let mut splices = Vec::new();
        for entry in self.entries() {
            match &entry.item {
                Item::Record(record) => {
                    if let Some(ttl) = changes(record) {
                        splices.push(self.ttl_of(entry, ttl));
                    }
                }
                Item::Generate(records) if records.iter().any(|record| changes(record).is_some()) => {
                    return Err(EditError::NotALine { line: entry.line() });
                }
                Item::Include { entries, .. } if holds(entries, &changes) => return Err(EditError::Elsewhere),
                _ => {}
            }
        }
        let expected: Vec<Record> = self
            .records()
            .map(|record| Record { ttl: changes(record).unwrap_or(record.ttl), ..record.clone() })
            .collect();
        self.spliced_to(splices, Digest::of(expected.iter()), None, today)
    }

    /// Where the time stands in the line of a record, and what is put there: in the place of the old one, else before the
    /// class or type (RFC 1035 section 5.1).
    pub(super) fn ttl_of(&self, entry: &Entry, ttl: u32) -> (Range<usize>, String) {
        let mut line = LogicalLine::default();
        // It was read before.
        let _ = logical_line(self.source(), entry.span().start, &mut line);
        let fields = &line.tokens[usize::from(!line.indented).min(line.tokens.len())..];
        let word = |span: &Range<usize>| String::from_utf8_lossy(&self.source()[span.clone()]).into_owned();
        for token in fields.iter().take(2) {
            let written = word(&token.span);
            if parse_ttl(&written).is_some() {
                return (token.span.clone(), ttl.to_string());
            }
            if !["IN", "CLASS1"].iter().any(|class| class.eq_ignore_ascii_case(&written)) {
                break;
            }
        }
        let at = fields.first().map_or(entry.span().end, |token| token.span.start);
        let blank = if at > 0 && self.source()[at - 1] == b'\t' { '\t' } else { ' ' };
        (at..at, format!("{ttl}{blank}"))
    }
}

fn holds(entries: &[Entry], changes: &impl Fn(&Record) -> Option<u32>) -> bool {
    entries.iter().any(|entry| match &entry.item {
        Item::Record(record) => changes(record).is_some(),
        Item::Generate(records) => records.iter().any(|record| changes(record).is_some()),
        Item::Include { entries, .. } => holds(entries, changes),
        _ => false,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::DnsName;

    const HEAD: &str = "@ SOA ns1.saltmarsh.example. host 2026112801 4h 30m 4w 5m\n";

    fn edited(text: &str, wanted: impl Fn(&Record) -> Option<u32>) -> Result<String, EditError> {
        let zone = Document::parse(format!("$TTL 3600\n{HEAD}{text}"), &DnsName::absolute("gullrock.example").unwrap());
        let edited = zone.unwrap().with_ttls(wanted, jiff::civil::date(2026, 11, 28))?;
        let text = String::from_utf8(edited.source().to_vec()).unwrap();
        Ok(text.strip_prefix(&format!("$TTL 3600\n{}", HEAD.replace("801", "802"))).unwrap().to_string())
    }

    #[test]
    fn the_rest_of_each_line_stays_as_it_was() {
        let longer = |record: &Record| (record.ttl > 300).then_some(300);
        let before = "@ 1d NS ns1.saltmarsh.example. ; since 2019\n\tIN\t7200 NS ns2.saltmarsh.example.\n\
            www\t\tA\t192.0.2.1 ; the shed\n  AAAA 2001:db8::1\nquay 60 IN A 192.0.2.2\nmail IN A 192.0.2.3\n\
            tide ( 2h\n  TXT \"high\" ; and low\n  \"low\" )\nin 900 CNAME www\n3600 3600 A 192.0.2.4\n";
        let after = "@ 300 NS ns1.saltmarsh.example. ; since 2019\n\tIN\t300 NS ns2.saltmarsh.example.\n\
            www\t\t300\tA\t192.0.2.1 ; the shed\n  300 AAAA 2001:db8::1\nquay 60 IN A 192.0.2.2\nmail 300 IN A 192.0.2.3\n\
            tide ( 300\n  TXT \"high\" ; and low\n  \"low\" )\nin 300 CNAME www\n3600 300 A 192.0.2.4\n";
        assert_eq!(edited(before, longer).unwrap(), after);
        let www = |record: &Record| record.owner.bare().starts_with("www").then_some(60);
        assert_eq!(
            edited("www A 192.0.2.1\nquay A 192.0.2.2\n", www).unwrap(),
            "www 60 A 192.0.2.1\nquay A 192.0.2.2\n"
        );
        assert_eq!(edited("www A 192.0.2.1\n", |_| Some(3600)).unwrap(), "www A 192.0.2.1\n");
    }

    #[test]
    fn what_stands_in_no_line_of_its_own_is_refused() {
        let generated = "$GENERATE 1-3 berth$ A 192.0.2.$\nwww A 192.0.2.9\n";
        assert_eq!(edited(generated, |_| Some(300)), Err(EditError::NotALine { line: 3 }));
        let others = |record: &Record| record.owner.bare().starts_with("www").then_some(300);
        assert!(edited(generated, others).unwrap().starts_with("$GENERATE 1-3 berth$ A 192.0.2.$\n"));
    }
}
