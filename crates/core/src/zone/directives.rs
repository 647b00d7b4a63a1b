//! The lines that are no records: `$ORIGIN`, `$TTL` (RFC 2308 section 4), `$INCLUDE` (RFC 1035 section 5.1), and BIND's own
//! `$GENERATE` and `$DATE`. What records mean is in `parse`.

use super::document::Item;
use super::error::{ZoneError, ZoneProblem};
use super::parse::{Parser, fail, head, name, text};
use super::record_data::{DataToken, moment};
use super::token::{LogicalLine, Token};
use super::{Record, RecordData, generate, parse_ttl};
use crate::name::DnsName;

/// Files that include files that include files.
const MOST_DEPTH: usize = 10;

impl Parser<'_, '_> {
    /// What such a line says, and sets for those behind it.
    pub(super) fn directive(&mut self, source: &[u8], line: &LogicalLine) -> Result<Item, ZoneError> {
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
            "$DATE" => {
                let value = one_value("$DATE")?;
                let word = text(source, value);
                // Seconds alone, as records may have them, are no date.
                match moment(&word).is_ok() && word.len() == 14 {
                    true => Ok(Item::Dated),
                    false => fail(source, value, ZoneProblem::Data("not a moment as YYYYMMDDHHmmSS".into())),
                }
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
        let Some(fetch) = &mut self.fetch else { return Ok(Item::Include { file: path.into(), entries: [].into() }) };
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
        Ok(Item::Include { file: path.into(), entries: entries.into() })
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
            let data =
                RecordData::parse(record_type, &tokens, &self.origin).map_err(|error| wrong(right, error.message))?;
            let ttl = self.ttl(ttl, &data).ok_or_else(|| wrong(first, ZoneProblem::NoTtl.to_string()))?;
            if owner.is_within(&self.zone) {
                records.push(Record { owner, ttl, data });
            }
        }
        Ok(Item::Generate(records))
    }
}
