//! Reads a master file line by line (RFC 1035 section 5, RFC 2308 section 4 for `$TTL`), as the common servers do.
//!
//! Each line inherits from those before it; an included file starts with what its line says and gives nothing back
//! but its records. `token` splits the lines, `directives` has those that are no records.

use std::borrow::Cow;
use std::hash::BuildHasher;
use std::ops::Range;

use foldhash::fast::RandomState;

use super::document::{Entry, Item};
use super::error::{ZoneError, ZoneProblem};
use super::record_data::DataToken;
use super::token::{LogicalLine, Token, logical_line};
use super::{Record, RecordData, RecordType, parse_ttl};
use crate::name::DnsName;

/// Gives the content of an included file by its name as written; the error says why it cannot.
pub type Fetch<'a> = dyn FnMut(&str) -> Result<Vec<u8>, String> + 'a;

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
    pub(super) zone: DnsName,
    pub(super) origin: DnsName,
    pub(super) owner: Option<DnsName>,
    pub(super) default_ttl: Option<u32>,
    last_ttl: Option<u32>,
    /// The SOA record that was seen, to tell a repetition from a second one.
    soa: Option<RecordData>,
    soa_places: SoaPlaces,
    pub(super) fetch: Option<&'f mut Fetch<'g>>,
    /// The included files that are being read.
    pub(super) files: Vec<String>,
    /// Targets that were named lately, by their hash: held once, however many records name them. Empty in small files.
    targets: Vec<Option<DnsName>>,
    hashing: RandomState,
}

/// Room for the nameservers and mail servers of a zone.
const MOST_TARGETS: usize = 1 << 14;

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
            targets: vec![],
            hashing: RandomState::default(),
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
                keep(Entry::new(&line.span, started_on, item));
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
            let owner = name(source, first, &self.origin)?;
            // Named once more, it is held once all the same.
            if self.owner.as_ref() != Some(&owner) {
                self.owner = Some(owner);
            }
            rest = &rest[1..];
        }
        let Some(owner) = &self.owner else {
            return fail(source, first, ZoneProblem::NoOwner);
        };
        let owner = owner.clone();
        let (ttl, record_type, data) = head(source, first, rest)?;
        words.clear();
        words.extend(data.iter().map(|token| DataToken { text: text(source, token), quoted: token.quoted }));
        let mut parsed = RecordData::parse(record_type, words, &self.origin).map_err(|error| {
            let place = data.get(error.token).or(data.last()).unwrap_or(first);
            ZoneError::at(source, place.span.clone(), ZoneProblem::Data(error.message))
        })?;
        if let RecordData::Mx { exchange: target, .. } | RecordData::Ns(target) | RecordData::Cname(target) =
            &mut parsed
        {
            self.share(target);
        }
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

    /// For a large file.
    pub(super) fn remember_targets(&mut self) {
        self.targets.resize(MOST_TARGETS, None);
    }

    /// Takes the name as it was read before, if it is remembered.
    fn share(&mut self, target: &mut DnsName) {
        if self.targets.is_empty() {
            return;
        }
        let place = &mut self.targets[self.hashing.hash_one(&*target) as usize % MOST_TARGETS];
        match place {
            Some(known) if known == target => *target = known.clone(),
            _ => *place = Some(target.clone()),
        }
    }

    /// The TTL in force: as written, else the default, else that of the record before (RFC 1035). Where there is neither, the
    /// SOA record has its own last number, and that is the default from there on, as servers have it.
    pub(super) fn ttl(&mut self, written: Option<u32>, data: &RecordData) -> Option<u32> {
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
}

pub(super) fn fail<T>(source: &[u8], token: &Token, problem: ZoneProblem) -> Result<T, ZoneError> {
    Err(ZoneError::at(source, token.span.clone(), problem))
}

/// TTL and class in either order, then the type; the rest is data.
pub(super) fn head<'t>(
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

pub(super) fn name(source: &[u8], token: &Token, origin: &DnsName) -> Result<DnsName, ZoneError> {
    DnsName::parse(&text(source, token), origin)
        .map_err(|error| ZoneError::at(source, token.span.clone(), ZoneProblem::Name(error)))
}

/// The token as text. Bytes that are no UTF-8 are turned into escapes, which mean the same.
pub(super) fn text<'s>(source: &'s [u8], token: &Token) -> Cow<'s, str> {
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
