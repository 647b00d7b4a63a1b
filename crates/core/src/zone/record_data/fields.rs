//! Reads and writes the parts of record data that `schema` names: from tokens, from wire form, and to text.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::super::{RecordType, parse_ttl};
use super::DataToken;
use super::forms::{self, Form};
use super::location::Location;
use super::parameters::Parameters;
use super::parse::DataError;
use super::rewriting;
use super::schema::{ALGORITHMS, CERTIFICATE_TYPES, DIGEST_TYPES, KEY_FLAGS, KEY_PROTOCOLS, META, Part, SCHEMES};
use super::text;
use crate::name::DnsName;

/// One part of record data, as a value.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Field {
    Number(u32),
    Name(DnsName),
    /// A quoted string.
    Text(Vec<u8>),
    Hex(Vec<u8>),
    Base64(Vec<u8>),
    /// Hexadecimal, `-` for none.
    Salt(Vec<u8>),
    Hash(Vec<u8>),
    Type(RecordType),
    /// In ascending order, each once.
    Types(Vec<RecordType>),
    /// Seconds since 1970, shown as YYYYMMDDHHmmSS.
    Moment(u32),
    Tag(String),
    Location(Location),
    Parameters(Parameters),
    /// In wire form.
    Special {
        form: Form,
        wire: Vec<u8>,
    },
}

/// Reads all parts of a type's data.
pub(super) fn parse(parts: &[Part], tokens: &[DataToken<'_>], origin: &DnsName) -> Result<Vec<Field>, DataError> {
    let mut rest = tokens;
    let mut fields = Vec::with_capacity(parts.len());
    for part in parts {
        let wrong_here = DataError::at(tokens.len() - rest.len());
        if takes_the_rest(*part) {
            fields.extend(parse_rest(*part, rest, origin).map_err(wrong_here)?);
            rest = &[];
            continue;
        }
        if *part == Part::MaybeText && rest.is_empty() {
            continue;
        }
        let missing = || DataError::at(tokens.len())("a value is missing at the end".into());
        let (token, more) = rest.split_first().ok_or_else(missing)?;
        rest = more;
        fields.push(parse_one(*part, token, origin).map_err(wrong_here)?);
    }
    let wrong_at_end = DataError::at(tokens.len());
    match rest.first() {
        // A name that is there has types (RFC 4034 section 4.1.2); below hashes, names between others have none.
        None if parts == [Part::Name, Part::Types]
            && matches!(&fields[..], [_, Field::Types(types)] if types.is_empty()) =>
        {
            Err(wrong_at_end("a type is missing at the end".into()))
        }
        None => check_digest(parts, &fields).map(|()| fields).map_err(wrong_at_end),
        Some(token) => {
            let too_many = DataError::at(tokens.len() - rest.len());
            Err(too_many(format!("`{}` is one value too many", text::shortened(&token.text))))
        }
    }
}

/// A digest is as long as its type says: of a DS record (RFC 4509, RFC 6605), a key's (RFC 4255, RFC 6594), a zone's (RFC 8976
/// section 2.2.4, at least 12 bytes for types that are not known).
fn check_digest(parts: &[Part], fields: &[Field]) -> Result<(), String> {
    let (kind, digest, length) = match (parts, fields) {
        (
            [Part::U16, Part::Algorithm, Part::DigestType, Part::Hex],
            [_, _, Field::Number(kind), Field::Hex(digest)],
        ) => (kind, digest, [0, 20, 32, 0, 48].get(*kind as usize).copied().unwrap_or(0)),
        ([Part::U32, Part::U8, Part::U8, Part::Hex], [_, _, Field::Number(kind), Field::Hex(digest)]) => {
            match (kind, digest.len()) {
                (0 | 3.., length @ 0..12) => {
                    return Err(format!("a digest has 12 bytes or more, this one has {length}"));
                }
                _ => (kind, digest, [0, 48, 64].get(*kind as usize).copied().unwrap_or(0)),
            }
        }
        ([Part::U8, Part::U8, Part::Hex], [_, Field::Number(kind), Field::Hex(digest)]) => {
            (kind, digest, [0, 20, 32].get(*kind as usize).copied().unwrap_or(0))
        }
        _ => return Ok(()),
    };
    if length == 0 {
        return Ok(());
    }
    if digest.len() == length {
        return Ok(());
    }
    Err(format!("a digest of type {kind} has {length} bytes, this one has {}", digest.len()))
}

fn takes_the_rest(part: Part) -> bool {
    match part {
        Part::Special(form) => form.takes_the_rest(),
        _ => matches!(
            part,
            Part::Texts
                | Part::Hex
                | Part::Base64
                | Part::MaybeBase64
                | Part::Types
                | Part::Location
                | Part::Parameters
        ),
    }
}

fn parse_rest(part: Part, rest: &[DataToken<'_>], origin: &DnsName) -> Result<Vec<Field>, String> {
    let joined = || rest.iter().map(DataToken::bare).collect::<Result<String, String>>();
    Ok(match part {
        Part::Texts => {
            if rest.is_empty() {
                return Err("at least one string is needed".into());
            }
            let strings = rest.iter().map(|token| text::character_string(&token.text).map(Field::Text));
            strings.collect::<Result<_, _>>()?
        }
        Part::Hex => vec![Field::Hex(filled(text::hex(&joined()?)?)?)],
        Part::Base64 => vec![Field::Base64(filled(text::base64(&joined()?)?)?)],
        Part::MaybeBase64 => vec![Field::Base64(text::base64(&joined()?)?)],
        Part::Special(form) => vec![Field::Special { form, wire: forms::parse(form, rest, origin)? }],
        Part::Types => {
            let types = rest.iter().map(|token| record_type(token.bare()?));
            vec![Field::Types(sorted(types.collect::<Result<_, _>>()?))]
        }
        Part::Location => vec![Field::Location(Location::parse(rest)?)],
        _ => vec![Field::Parameters(Parameters::parse(rest, origin)?)],
    })
}

fn filled(bytes: Vec<u8>) -> Result<Vec<u8>, String> {
    if bytes.is_empty() { Err("a value is missing at the end".into()) } else { Ok(bytes) }
}

pub(super) fn sorted(mut types: Vec<RecordType>) -> Vec<RecordType> {
    types.sort();
    types.dedup();
    types
}

fn parse_one(part: Part, token: &DataToken<'_>, origin: &DnsName) -> Result<Field, String> {
    let word = match part {
        Part::Text | Part::MaybeText | Part::Rewriting | Part::Digits | Part::LongText => token.text.as_ref(),
        Part::QuotedText if token.quoted => token.text.as_ref(),
        Part::QuotedText => return Err(format!("`{}` must stand in quotes", text::shortened(&token.text))),
        _ => token.bare()?,
    };
    Ok(match part {
        Part::U8 => Field::Number(number(word, 255)?),
        Part::U16 => Field::Number(number(word, 65_535)?),
        Part::U32 => Field::Number(number(word, u32::MAX)?),
        Part::Seconds => {
            Field::Number(parse_ttl(word).ok_or_else(|| format!("`{word}` is not a time in seconds or with units"))?)
        }
        Part::Name => Field::Name(DnsName::parse(word, origin).map_err(|error| format!("`{word}`: {error}"))?),
        Part::Text | Part::MaybeText => Field::Text(text::character_string(word)?),
        Part::Rewriting => {
            let string = text::character_string(word)?;
            rewriting::check(&string)?;
            Field::Text(string)
        }
        Part::Digits => Field::Text(digits(word)?),
        Part::LongText | Part::QuotedText => Field::Text(text::unescape(word)?),
        Part::KeyFlags => Field::Number(key_flags(word)?),
        Part::KeyProtocol => Field::Number(mnemonic(word, KEY_PROTOCOLS, 255)?),
        Part::DigestType => Field::Number(mnemonic(word, DIGEST_TYPES, 255)?),
        Part::Scheme => Field::Number(mnemonic(word, SCHEMES, 255)?),
        Part::Special(form) => Field::Special { form, wire: forms::parse(form, std::slice::from_ref(token), origin)? },
        Part::Salt if word == "-" => Field::Salt(vec![]),
        Part::Salt => Field::Salt(text::hex(word)?),
        Part::Hash => Field::Hash(text::base32_hex(word)?),
        Part::Algorithm => Field::Number(mnemonic(word, ALGORITHMS, 255)?),
        Part::CertificateType => Field::Number(mnemonic(word, CERTIFICATE_TYPES, 65_535)?),
        Part::Type => Field::Type(record_type(word)?),
        Part::Moment => Field::Moment(moment(word)?),
        Part::Tag if !word.is_empty() && word.bytes().all(|byte| byte.is_ascii_alphanumeric()) => {
            Field::Tag(word.to_string())
        }
        Part::Tag => return Err(format!("`{word}` is not a tag of letters and digits")),
        Part::Texts
        | Part::Hex
        | Part::Base64
        | Part::MaybeBase64
        | Part::Types
        | Part::Location
        | Part::Parameters => {
            return Err("a part that takes the rest stands last".into());
        }
    })
}

fn digits(word: &str) -> Result<Vec<u8>, String> {
    match word.len() >= 4 && word.bytes().all(|byte| byte.is_ascii_digit()) {
        true => text::character_string(word),
        false => Err(format!("`{}` is not four digits or more", text::shortened(word))),
    }
}

/// Words joined by `|`, or a number.
fn key_flags(word: &str) -> Result<u32, String> {
    let one = |word: &str| KEY_FLAGS.iter().find(|(_, name)| name.eq_ignore_ascii_case(word)).map(|(value, _)| *value);
    match word.split('|').map(one).collect::<Option<Vec<u32>>>() {
        Some(flags) => Ok(flags.into_iter().fold(0, |all, flag| all | flag)),
        None => number(word, 65_535),
    }
}

pub(super) fn number(word: &str, most: u32) -> Result<u32, String> {
    let digits = !word.is_empty() && word.bytes().all(|byte| byte.is_ascii_digit());
    let value = word.parse::<u32>().ok().filter(|value| digits && *value <= most);
    value.ok_or_else(|| format!("`{}` is not a number from 0 to {most}", text::shortened(word)))
}

fn mnemonic(word: &str, table: &[(u32, &str)], most: u32) -> Result<u32, String> {
    match table.iter().find(|(_, name)| name.eq_ignore_ascii_case(word)) {
        Some((value, _)) => Ok(*value),
        None => number(word, most),
    }
}

/// A type as data names it: those of questions alone, too.
fn record_type(word: &str) -> Result<RecordType, String> {
    let in_questions =
        || META.iter().find(|(_, name)| name.eq_ignore_ascii_case(word)).map(|(kind, _)| RecordType(*kind));
    RecordType::parse(word).or_else(in_questions).ok_or_else(|| format!("`{word}` is not a record type"))
}

pub(in crate::zone) fn moment(word: &str) -> Result<u32, String> {
    let wrong = || format!("`{word}` is not a moment as YYYYMMDDHHmmSS");
    if word.len() != 14 {
        return number(word, u32::MAX);
    }
    let time = jiff::civil::DateTime::strptime("%Y%m%d%H%M%S", word).map_err(|_| wrong())?;
    let seconds = time.to_zoned(jiff::tz::TimeZone::UTC).map_err(|_| wrong())?.timestamp().as_second();
    // Serial arithmetic: moments after 2106 wrap (RFC 4034 section 3.1.5).
    Ok(seconds as u32)
}

impl fmt::Display for Field {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Field::Number(value) => write!(f, "{value}"),
            Field::Name(name) => write!(f, "{name}"),
            Field::Text(string) => text::write_quoted(f, string),
            Field::Hex(bytes) => text::write_hex(f, bytes),
            Field::Base64(bytes) => text::write_base64(f, bytes),
            Field::Salt(bytes) if bytes.is_empty() => f.write_str("-"),
            Field::Salt(bytes) => text::write_hex(f, bytes),
            Field::Hash(bytes) => text::write_base32_hex(f, bytes),
            Field::Type(record_type) => write!(f, "{record_type}"),
            Field::Types(types) => {
                let words: Vec<String> = types.iter().map(ToString::to_string).collect();
                f.write_str(&words.join(" "))
            }
            Field::Moment(seconds) => match jiff::Timestamp::from_second(i64::from(*seconds)) {
                Ok(moment) => write!(f, "{}", moment.strftime("%Y%m%d%H%M%S")),
                Err(_) => write!(f, "{seconds}"),
            },
            Field::Tag(tag) => f.write_str(tag),
            Field::Location(location) => write!(f, "{location}"),
            Field::Parameters(parameters) => write!(f, "{parameters}"),
            Field::Special { form, wire } => f.write_str(&forms::shown(*form, wire).unwrap_or_default()),
        }
    }
}
