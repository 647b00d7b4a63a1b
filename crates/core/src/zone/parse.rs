//! Reads a master file line by line (RFC 1035 section 5, RFC 2308 section 4 for `$TTL`), as the common servers do.
//!
//! Each line inherits from those before it; an included file starts with what its line says and gives nothing back
//! but its records. Bounded in depth. `token` splits the lines, `generate` writes out `$GENERATE`.

use std::borrow::Cow;
use std::ops::Range;

use super::document::{Entry, Item};
use super::error::{ZoneError, ZoneProblem};
use super::record_data::DataToken;
use super::token::{LogicalLine, Token, logical_line};
use super::{Record, RecordData, RecordType, generate, parse_ttl};
use crate::name::DnsName;

/// Gives the content of an included file by its name as written; the error says why it cannot.
pub type Fetch<'a> = dyn FnMut(&str) -> Result<Vec<u8>, String> + 'a;

/// Files that include files that include files.
const MOST_DEPTH: usize = 10;

/// Where the seven values of the SOA record stand in the file.
pub(super) type SoaSpans = [Range<usize>; 7];

/// Where the start of authority stands.
#[derive(Debug, Clone, Default)]
pub(super) struct SoaPlaces {
    /// Each of its values; none where it stands in an included file.
    pub spans: Option<SoaSpans>,
    /// The serial in lines that say the same once more.
    pub more_serials: Vec<Range<usize>>,
}

/// Where a line starts: its first byte, and its number from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Start {
    pub at: usize,
    pub line: usize,
}

pub(super) fn newlines(source: &[u8]) -> usize {
    memchr::memchr_iter(b'\n', source).count()
}

/// What a line takes from those before it, its owner apart.
pub(super) struct Inherited {
    zone: DnsName,
    origin: DnsName,
    default_ttl: Option<u32>,
    soa: RecordData,
}

pub(super) struct Parser<'f, 'g> {
    zone: DnsName,
    origin: DnsName,
    owner: Option<DnsName>,
    default_ttl: Option<u32>,
    last_ttl: Option<u32>,
    /// The SOA record that was seen, to tell a repetition from a second one.
    soa: Option<RecordData>,
    soa_places: SoaPlaces,
    fetch: Option<&'f mut Fetch<'g>>,
    /// The included files that are being read.
    files: Vec<String>,
}

impl<'f, 'g> Parser<'f, 'g> {
    pub fn new(zone: &DnsName, fetch: Option<&'f mut Fetch<'g>>) -> Self {
        Self {
            zone: zone.clone(),
            origin: zone.clone(),
            owner: None,
            default_ttl: None,
            last_ttl: None,
            soa: None,
            soa_places: SoaPlaces::default(),
            fetch,
            files: vec![],
        }
    }

    /// The zone, and where its SOA record stands; an error if there was none.
    pub fn finish(self, source: &[u8]) -> Result<(DnsName, SoaPlaces), ZoneError> {
        match self.soa {
            Some(_) => Ok((self.zone, self.soa_places)),
            None => Err(ZoneError::at(source, source.len()..source.len(), ZoneProblem::NoSoa)),
        }
    }

    pub fn parse(&mut self, source: &[u8]) -> Result<Vec<Entry>, ZoneError> {
        let mut entries = Vec::with_capacity(newlines(source) + 1);
        let mut start = Start { at: 0, line: 1 };
        self.parse_lines(source, &mut start, source.len(), &mut |entry| entries.push(entry))?;
        Ok(entries)
    }

    /// Reads the lines from `start` on, up to the first that begins at `stop` or behind it; `start` is there then.
    pub(super) fn parse_lines(
        &mut self,
        source: &[u8],
        start: &mut Start,
        stop: usize,
        keep: &mut dyn FnMut(Entry),
    ) -> Result<(), ZoneError> {
        let mut line = LogicalLine::default();
        let mut words = Vec::new();
        while start.at < stop && logical_line(source, start.at, &mut line)? {
            let started_on = start.line;
            *start = Start { at: line.span.end, line: started_on + line.newlines };
            if !line.tokens.is_empty() {
                let item = self.item(source, &line, &mut words)?;
                keep(Entry { span: line.span.clone(), line: started_on, item });
            }
        }
        Ok(())
    }

    /// What lines further down inherit, if those between say nothing. It is not known before the start of authority and a
    /// default TTL are.
    pub(super) fn inherited(&self) -> Option<Inherited> {
        let is_known = self.default_ttl.is_some() && self.files.is_empty();
        let soa = self.soa.clone().filter(|_| is_known)?;
        Some(Inherited { zone: self.zone.clone(), origin: self.origin.clone(), default_ttl: self.default_ttl, soa })
    }

    /// A parser for lines further down, which follows no `$INCLUDE`.
    pub(super) fn further_down(inherited: Inherited) -> Self {
        let Inherited { zone, origin, default_ttl, soa } = inherited;
        Self { origin, default_ttl, soa: Some(soa), ..Self::new(&zone, None) }
    }

    /// Where the start of authority was repeated.
    pub(super) fn repeated_serials(self) -> Vec<Range<usize>> {
        self.soa_places.more_serials
    }

    /// Takes in what a parser further down has seen of them.
    pub(super) fn more_serials(&mut self, further_down: Vec<Range<usize>>) {
        self.soa_places.more_serials.extend(further_down);
    }

    /// What one line says. `words` is room that is used again for each.
    fn item<'s>(
        &mut self,
        source: &'s [u8],
        line: &LogicalLine,
        words: &mut Vec<DataToken<'s>>,
    ) -> Result<Item, ZoneError> {
        let first = &line.tokens[0];
        if !line.indented && !first.quoted && source[first.span.start] == b'$' {
            return self.directive(source, line);
        }
        let mut rest = &line.tokens[..];
        if !line.indented {
            self.owner = Some(name(source, first, &self.origin)?);
            rest = &rest[1..];
        }
        let Some(owner) = &self.owner else {
            return fail(source, first, ZoneProblem::NoOwner);
        };
        let owner = owner.clone();
        let (ttl, record_type, data) = head(source, first, rest)?;
        words.clear();
        words.extend(data.iter().map(|token| DataToken { text: text(source, token), quoted: token.quoted }));
        let place = data.first().unwrap_or(first);
        let parsed = RecordData::parse(record_type, words, &self.origin)
            .map_err(|message| ZoneError::at(source, place.span.clone(), ZoneProblem::Data(message)))?;
        let ttl =
            self.ttl(ttl, &parsed).ok_or_else(|| ZoneError::at(source, first.span.clone(), ZoneProblem::NoTtl))?;
        if !owner.is_within(&self.zone) {
            return Ok(Item::OutOfZone(owner));
        }
        if record_type == RecordType::SOA {
            self.soa(source, first, &owner, &parsed, data)?;
        }
        Ok(Item::Record(Record { owner, ttl, data: parsed }))
    }

    /// The TTL in force: as written, else the default, else that of the record before (RFC 1035). Where there is neither, the
    /// SOA record has its own last number, and that is the default from there on, as servers have it.
    fn ttl(&mut self, written: Option<u32>, data: &RecordData) -> Option<u32> {
        let from_soa = match data {
            RecordData::Soa(soa) if self.soa.is_none() => Some(soa.negative_ttl),
            _ => None,
        };
        let known = written.or(self.default_ttl).or(self.last_ttl);
        if known.is_none() {
            self.default_ttl = from_soa;
        }
        let ttl = known.or(from_soa)?;
        // RFC 2181 section 8: with the top bit set it counts as 0.
        let ttl = if ttl > 0x7fff_ffff { 0 } else { ttl };
        self.last_ttl = Some(ttl);
        Some(ttl)
    }

    fn soa(
        &mut self,
        source: &[u8],
        first: &Token,
        owner: &DnsName,
        data: &RecordData,
        tokens: &[Token],
    ) -> Result<(), ZoneError> {
        if *owner != self.zone {
            return fail(source, first, ZoneProblem::SoaBelowApex);
        }
        match &self.soa {
            None => {
                self.soa = Some(data.clone());
                if self.files.is_empty() {
                    let spans: Vec<_> = tokens.iter().map(|token| token.span.clone()).collect();
                    self.soa_places.spans = spans.try_into().ok();
                }
                Ok(())
            }
            // The same record twice is one record, as everywhere in the DNS.
            Some(before) if before == data => {
                if self.files.is_empty() {
                    self.soa_places.more_serials.extend(tokens.get(2).map(|token| token.span.clone()));
                }
                Ok(())
            }
            Some(_) => fail(source, first, ZoneProblem::SecondSoa),
        }
    }

    fn directive(&mut self, source: &[u8], line: &LogicalLine) -> Result<Item, ZoneError> {
        let (first, values) = line.tokens.split_first().expect("a line with tokens");
        let word = text(source, first).to_ascii_uppercase();
        let one_value = |name: &'static str| match values {
            [value] => Ok(value),
            _ => Err(ZoneError::at(source, first.span.clone(), ZoneProblem::DirectiveValue(name))),
        };
        match word.as_str() {
            "$ORIGIN" => {
                self.origin = name(source, one_value("$ORIGIN")?, &self.origin)?;
                Ok(Item::Origin(self.origin.clone()))
            }
            "$TTL" => {
                let value = one_value("$TTL")?;
                let wrong = || ZoneProblem::Data("not a time in seconds or with units".into());
                let seconds = parse_ttl(&text(source, value))
                    .ok_or_else(|| ZoneError::at(source, value.span.clone(), wrong()))?;
                self.default_ttl = Some(seconds);
                Ok(Item::DefaultTtl(seconds))
            }
            "$INCLUDE" => self.include(source, first, values),
            "$GENERATE" => self.generate(source, first, values),
            _ => fail(source, first, ZoneProblem::UnknownDirective),
        }
    }

    fn include(&mut self, source: &[u8], first: &Token, values: &[Token]) -> Result<Item, ZoneError> {
        let (file, origin) = match values {
            [file] => (file, self.origin.clone()),
            [file, origin] => (file, name(source, origin, &self.origin)?),
            _ => return fail(source, first, ZoneProblem::DirectiveValue("$INCLUDE")),
        };
        let path = text(source, file).into_owned();
        let Some(fetch) = &mut self.fetch else { return Ok(Item::Include { file: path, entries: vec![] }) };
        let wrong = |message: String| ZoneError::at(source, file.span.clone(), ZoneProblem::Include(message));
        if self.files.contains(&path) {
            return Err(wrong("the file includes itself".into()));
        }
        if self.files.len() >= MOST_DEPTH {
            return Err(wrong(format!("files are included more than {MOST_DEPTH} deep")));
        }
        let included = fetch(&path).map_err(wrong)?;
        let origin_before = std::mem::replace(&mut self.origin, origin);
        let owner_before = self.owner.clone();
        self.files.push(path.clone());
        let entries = self.parse(&included).map_err(|error| error.in_file(&path))?;
        self.files.pop();
        self.origin = origin_before;
        self.owner = owner_before;
        Ok(Item::Include { file: path, entries })
    }

    fn generate(&mut self, source: &[u8], first: &Token, values: &[Token]) -> Result<Item, ZoneError> {
        let [range, left, rest @ ..] = values else {
            return fail(source, first, ZoneProblem::DirectiveValue("$GENERATE"));
        };
        let wrong =
            |token: &Token, message: String| ZoneError::at(source, token.span.clone(), ZoneProblem::Data(message));
        let range = generate::Range::parse(&text(source, range)).map_err(|message| wrong(range, message))?;
        let (ttl, record_type, data) = head(source, first, rest)?;
        let [right] = data else { return fail(source, first, ZoneProblem::DirectiveValue("$GENERATE")) };
        let (left_text, right_text) = (text(source, left), text(source, right));
        let mut records = Vec::new();
        for value in range.values() {
            let written =
                |pattern: &str, token| generate::fill(pattern, value).map_err(|message| wrong(token, message));
            let owner = written(&left_text, left)?;
            let owner = DnsName::parse(&owner, &self.origin)
                .map_err(|error| ZoneError::at(source, left.span.clone(), ZoneProblem::Name(error)))?;
            let data = written(&right_text, right)?;
            let tokens: Vec<DataToken<'_>> =
                data.split_whitespace().map(|text| DataToken { text: text.into(), quoted: false }).collect();
            let data = RecordData::parse(record_type, &tokens, &self.origin).map_err(|m| wrong(right, m))?;
            let ttl = self.ttl(ttl, &data).ok_or_else(|| wrong(first, ZoneProblem::NoTtl.to_string()))?;
            if owner.is_within(&self.zone) {
                records.push(Record { owner, ttl, data });
            }
        }
        Ok(Item::Generate(records))
    }
}

fn fail<T>(source: &[u8], token: &Token, problem: ZoneProblem) -> Result<T, ZoneError> {
    Err(ZoneError::at(source, token.span.clone(), problem))
}

/// TTL and class in either order, then the type; the rest is data.
fn head<'t>(
    source: &[u8],
    first: &Token,
    tokens: &'t [Token],
) -> Result<(Option<u32>, RecordType, &'t [Token]), ZoneError> {
    let (mut ttl, mut class_seen) = (None, false);
    for (index, token) in tokens.iter().enumerate() {
        let word = text(source, token);
        let is = |names: &[&str]| names.iter().any(|name| name.eq_ignore_ascii_case(&word));
        if !class_seen && is(&["IN", "CLASS1"]) {
            class_seen = true;
        } else if !class_seen && is(&["CH", "CHAOS", "HS", "HESIOD", "CLASS3", "CLASS4"]) {
            return fail(source, token, ZoneProblem::OtherClass);
        } else if let Some(seconds) = parse_ttl(&word).filter(|_| ttl.is_none()) {
            ttl = Some(seconds);
        } else if let Some(record_type) = RecordType::parse(&word).filter(|_| !token.quoted) {
            if record_type.is_meta() {
                return fail(source, token, ZoneProblem::MetaType);
            }
            return Ok((ttl, record_type, &tokens[index + 1..]));
        } else {
            return fail(source, token, ZoneProblem::NoType);
        }
    }
    fail(source, tokens.last().unwrap_or(first), ZoneProblem::NoType)
}

fn name(source: &[u8], token: &Token, origin: &DnsName) -> Result<DnsName, ZoneError> {
    DnsName::parse(&text(source, token), origin)
        .map_err(|error| ZoneError::at(source, token.span.clone(), ZoneProblem::Name(error)))
}

/// The token as text. Bytes that are no UTF-8 are turned into escapes, which mean the same.
fn text<'s>(source: &'s [u8], token: &Token) -> Cow<'s, str> {
    let bytes = &source[token.span.clone()];
    match std::str::from_utf8(bytes) {
        Ok(text) => Cow::Borrowed(text),
        Err(_) => {
            let escaped = bytes.iter().map(|byte| match byte {
                0..=127 => char::from(*byte).to_string(),
                _ => format!("\\{byte:03}"),
            });
            Cow::Owned(escaped.collect())
        }
    }
}
