//! A master file as a document: every byte is kept, and each logical line knows what it says (RFC 1035 section 5,
//! RFC 2308 section 4 for `$TTL`).
//!
//! Reading only; `edit` changes the lines concerned. `$INCLUDE` and `$GENERATE` lines are kept and not expanded.

use std::ops::Range;

use super::error::{ZoneError, ZoneProblem};
use super::record_data::DataToken;
use super::token::{LogicalLine, Token, logical_line};
use super::{Record, RecordData, RecordType, Soa, parse_ttl};
use crate::name::DnsName;

/// A parsed master file. [`Document::source`] is the file, byte for byte.
#[derive(Debug, Clone)]
pub struct Document {
    source: Vec<u8>,
    origin: DnsName,
    entries: Vec<Entry>,
}

/// One logical line that says something (blank and comment lines have no entry).
#[derive(Debug, Clone)]
pub struct Entry {
    /// Its bytes in the source, line end included.
    pub span: Range<usize>,
    /// The line it starts on, from 1.
    pub line: usize,
    pub item: Item,
}

#[derive(Debug, Clone)]
pub enum Item {
    Origin(DnsName),
    DefaultTtl(u32),
    /// `$INCLUDE` or `$GENERATE`: kept, not expanded.
    Kept {
        directive: String,
    },
    Record {
        record: Record,
        data_spans: Vec<Range<usize>>,
        owner_written: bool,
    },
}

/// What a line inherits from the lines before it.
struct Context {
    origin: DnsName,
    owner: Option<DnsName>,
    default_ttl: Option<u32>,
    last_ttl: Option<u32>,
    soa_seen: bool,
}

impl Document {
    /// Reads the master file of the zone `origin`.
    pub fn parse(source: impl Into<Vec<u8>>, origin: &DnsName) -> Result<Self, ZoneError> {
        let source = source.into();
        let mut context =
            Context { origin: origin.clone(), owner: None, default_ttl: None, last_ttl: None, soa_seen: false };
        let mut entries = Vec::new();
        let (mut at, mut line_number) = (0, 1);
        while let Some(line) = logical_line(&source, at)? {
            at = line.span.end;
            let started_on = line_number;
            line_number += source[line.span.clone()].iter().filter(|&&b| b == b'\n').count();
            if line.tokens.is_empty() {
                continue;
            }
            let item = read_item(&source, &line, &mut context, origin)?;
            entries.push(Entry { span: line.span, line: started_on, item });
        }
        if !context.soa_seen {
            return Err(ZoneError::at(&source, source.len()..source.len(), ZoneProblem::NoSoa));
        }
        Ok(Self { source, origin: origin.clone(), entries })
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

    /// The records in file order.
    pub fn records(&self) -> impl Iterator<Item = &Record> {
        self.entries.iter().filter_map(|entry| match &entry.item {
            Item::Record { record, .. } => Some(record),
            _ => None,
        })
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

fn read_item(source: &[u8], line: &LogicalLine, context: &mut Context, zone: &DnsName) -> Result<Item, ZoneError> {
    let first = &line.tokens[0];
    if !line.indented && !first.quoted && source[first.span.start] == b'$' {
        return read_directive(source, line, context);
    }
    let mut rest = line.tokens.iter().peekable();
    let owner_written = !line.indented;
    if owner_written {
        let token = rest.next().expect("a line with tokens");
        context.owner = Some(read_name(source, token, &context.origin)?);
    }
    let fail = |token: &Token, problem| Err(ZoneError::at(source, token.span.clone(), problem));
    let Some(owner) = context.owner.clone() else {
        return fail(first, ZoneProblem::NoOwner);
    };
    if !owner.is_within(zone) {
        return fail(first, ZoneProblem::OutOfZone(zone.clone()));
    }
    let (mut ttl, mut class_seen) = (None, false);
    let record_type = loop {
        let Some(token) = rest.next() else {
            return fail(line.tokens.last().unwrap_or(first), ZoneProblem::NoType);
        };
        let word = text_of(source, token)?;
        if !class_seen && word.eq_ignore_ascii_case("IN") {
            class_seen = true;
        } else if !class_seen && ["CH", "HS", "CLASS3", "CLASS4"].iter().any(|c| c.eq_ignore_ascii_case(word)) {
            return fail(token, ZoneProblem::OtherClass);
        } else if let Some(seconds) = parse_ttl(word).filter(|_| ttl.is_none()) {
            ttl = Some(seconds);
        } else if let Some(record_type) = RecordType::parse(word) {
            break record_type;
        } else {
            return fail(token, ZoneProblem::NoType);
        }
    };
    let data_tokens: Vec<&Token> = rest.collect();
    let mut words = Vec::with_capacity(data_tokens.len());
    for token in &data_tokens {
        words.push(DataToken { text: text_of(source, token)?, quoted: token.quoted });
    }
    let place = data_tokens.first().copied().unwrap_or(first);
    let data = RecordData::parse(record_type, &words, &context.origin)
        .map_err(|message| ZoneError::at(source, place.span.clone(), ZoneProblem::Data(message)))?;
    if let RecordData::Soa(soa) = &data {
        if std::mem::replace(&mut context.soa_seen, true) {
            return fail(first, ZoneProblem::SecondSoa);
        }
        if owner != *zone {
            return fail(first, ZoneProblem::NoSoa);
        }
        // RFC 1035 zones without $TTL: the SOA minimum is the default, as servers still read it.
        if ttl.is_none() && context.default_ttl.is_none() && context.last_ttl.is_none() {
            context.last_ttl = Some(soa.negative_ttl);
        }
    }
    let Some(effective) = ttl.or(context.default_ttl).or(context.last_ttl) else {
        return fail(first, ZoneProblem::NoTtl);
    };
    context.last_ttl = Some(effective);
    Ok(Item::Record {
        record: Record { owner, ttl: effective, data },
        data_spans: data_tokens.iter().map(|token| token.span.clone()).collect(),
        owner_written,
    })
}

fn read_directive(source: &[u8], line: &LogicalLine, context: &mut Context) -> Result<Item, ZoneError> {
    let first = &line.tokens[0];
    let word = text_of(source, first)?.to_ascii_uppercase();
    let one_value = |name: &'static str| match &line.tokens[..] {
        [_, value] => Ok(value),
        _ => Err(ZoneError::at(source, first.span.clone(), ZoneProblem::DirectiveValue(name))),
    };
    match word.as_str() {
        "$ORIGIN" => {
            context.origin = read_name(source, one_value("$ORIGIN")?, &context.origin)?;
            Ok(Item::Origin(context.origin.clone()))
        }
        "$TTL" => {
            let value = one_value("$TTL")?;
            let seconds = parse_ttl(text_of(source, value)?).ok_or_else(|| {
                ZoneError::at(
                    source,
                    value.span.clone(),
                    ZoneProblem::Data("not a time in seconds or with units".into()),
                )
            })?;
            context.default_ttl = Some(seconds);
            Ok(Item::DefaultTtl(seconds))
        }
        "$INCLUDE" | "$GENERATE" => Ok(Item::Kept { directive: word }),
        _ => Err(ZoneError::at(source, first.span.clone(), ZoneProblem::UnknownDirective)),
    }
}

fn read_name(source: &[u8], token: &Token, origin: &DnsName) -> Result<DnsName, ZoneError> {
    DnsName::parse(text_of(source, token)?, origin)
        .map_err(|error| ZoneError::at(source, token.span.clone(), ZoneProblem::Name(error)))
}

fn text_of<'a>(source: &'a [u8], token: &Token) -> Result<&'a str, ZoneError> {
    std::str::from_utf8(&source[token.span.clone()]).map_err(|_| {
        let problem = ZoneProblem::Data("bytes that are not text; write them as `\\DDD`".into());
        ZoneError::at(source, token.span.clone(), problem)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const CHOIR: &str = "; the choir's zone, kept by hand\n\
$TTL 1h\n\
@\tIN SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. (\n\
\t\t2026112301 ; serial\n\t\t4h 30m 4w 5m )\n\
\tIN NS ns1.saltmarsh.example.\n\
\t300 IN A 192.0.2.20\n\
www  IN 60 CNAME @\n\
$ORIGIN rehearsal.lanternchoir.example.\n\
hall A 192.0.2.21 ; no final newline";

    fn origin() -> DnsName {
        DnsName::absolute("lanternchoir.example").unwrap()
    }

    #[test]
    fn records_with_inherited_owner_ttl_and_origin() {
        let zone = Document::parse(CHOIR, &origin()).unwrap();
        let shown: Vec<String> = zone.records().map(Record::to_string).collect();
        assert_eq!(
            shown,
            [
                "lanternchoir.example. 3600 IN SOA ns1.saltmarsh.example. hostmaster.saltmarsh.example. 2026112301 14400 1800 2419200 300",
                "lanternchoir.example. 3600 IN NS ns1.saltmarsh.example.",
                "lanternchoir.example. 300 IN A 192.0.2.20",
                "www.lanternchoir.example. 60 IN CNAME lanternchoir.example.",
                "hall.rehearsal.lanternchoir.example. 3600 IN A 192.0.2.21",
            ]
        );
        assert_eq!(zone.source(), CHOIR.as_bytes());
        assert_eq!(zone.entries().last().unwrap().line, 10);
    }

    #[test]
    fn errors_name_the_place_the_text_and_the_reason() {
        let told = |line: &str| {
            let text = format!("@ 60 SOA ns1.saltmarsh.example. host 1 2 3 4 5\n{line}\n");
            Document::parse(text, &origin()).unwrap_err().to_string()
        };
        assert_eq!(
            told("www A 192.0.2.999"),
            "line 2, column 7: `192.0.2.999` is not an IPv4 address (at `192.0.2.999`)"
        );
        assert_eq!(told("www WAT 1"), "line 2, column 5: a record type was expected (at `WAT`)");
        assert_eq!(
            told("www.gullrock.example. A 192.0.2.1"),
            "line 2, column 1: the name lies outside the zone lanternchoir.example. (at `www.gullrock.example.`)"
        );
        assert_eq!(told("$WAT 1"), "line 2, column 1: an unknown directive (at `$WAT`)");
        assert_eq!(
            told("a..b A 192.0.2.1"),
            "line 2, column 1: an empty label: two dots in a row, or a dot at the start (at `a..b`)"
        );
        assert_eq!(told("www CH A 192.0.2.1"), "line 2, column 5: only class IN is kept here (at `CH`)");
        assert_eq!(told("@ SOA a b 1 2 3 4 5"), "line 2, column 1: a second SOA record (at `@`)");
        let no_soa = Document::parse("www 60 A 192.0.2.1\n", &origin()).unwrap_err();
        assert_eq!(no_soa.problem, ZoneProblem::NoSoa);
    }

    proptest! {
        #[test]
        fn any_bytes_are_answered_without_a_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            let _ = Document::parse(bytes, &origin());
        }

        #[test]
        fn whatever_parses_prints_back(tail in "[a-z ;\"()\\\\\t\n$@0-9.]{0,120}") {
            let text = format!("@ 60 SOA a b 1 2 3 4 5\n{tail}");
            if let Ok(zone) = Document::parse(text.clone(), &origin()) {
                prop_assert_eq!(zone.source(), text.as_bytes());
            }
        }
    }
}
