//! What people type for a record: owner names and data, with what was made of them.
//!
//! A zone file would take `www.gullrock.example` without its final dot as a name below the zone. People who type or
//! paste it mean the full name; that is taken, and said.

use std::net::IpAddr;

use super::record_data::DataToken;
use super::token::{LogicalLine, logical_line};
use super::{RecordData, RecordType};
use crate::name::{DnsName, ends_in_known_suffix};

/// A value as meant, and what was made of what was typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Meant<T> {
    pub value: T,
    pub said: Vec<String>,
}

/// Why something typed is no owner or no data.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TypedError {
    #[error("`{0}` has a blank inside")]
    Blank(String),
    #[error("`{typed}`: {reason}")]
    Name { typed: String, reason: String },
    #[error("{name} lies outside the zone {zone}")]
    OutOfZone { name: String, zone: String },
    #[error("invalid {record_type} record data: `{typed}`: {reason}")]
    Data { typed: String, record_type: RecordType, reason: String },
}

/// Reads an owner: a label, `@`, or a full name with or without its final dot.
pub fn owner_as_meant(typed: &str, zone: &DnsName) -> Result<Meant<DnsName>, TypedError> {
    let mut said = Vec::new();
    let mut text = typed.trim().to_string();
    if text != typed {
        said.push(format!("blanks around `{text}` were dropped"));
    }
    if let Some((_, rest)) = text.split_once("://") {
        let host = rest.split(['/', '?', '#', ':']).next().unwrap_or_default().to_string();
        said.push(format!("`{text}` is a URL; its name `{host}` was taken"));
        text = host;
    }
    if text.is_empty() || text == "@" {
        return Ok(Meant { value: zone.clone(), said });
    }
    if text.contains(char::is_whitespace) {
        return Err(TypedError::Blank(text));
    }
    let value = name_as_meant(&text, zone, false, &mut said)?;
    if !value.is_within(zone) {
        return Err(TypedError::OutOfZone { name: value.bare(), zone: zone.bare() });
    }
    Ok(Meant { value, said })
}

/// Reads a name. `full` takes a name that ends in a top-level domain for a full one: the targets of records.
fn name_as_meant(text: &str, zone: &DnsName, full: bool, said: &mut Vec<String>) -> Result<DnsName, TypedError> {
    let wrong = |reason: String| TypedError::Name { typed: text.to_string(), reason };
    let ascii = match text.is_ascii() {
        true => text.to_string(),
        false => {
            let ascii = idna::domain_to_ascii(text).map_err(|_| wrong("not an international name".into()))?;
            said.push(format!("`{text}` is written as {ascii}"));
            ascii
        }
    };
    let read = |origin: &DnsName| DnsName::parse(&ascii, origin).map_err(|error| wrong(error.to_string()));
    if ascii.ends_with('.') || ascii == "@" {
        return read(zone);
    }
    let absolute = read(&DnsName::root())?;
    let labels: Vec<&[u8]> = absolute.labels().collect();
    let own: Vec<&[u8]> = zone.labels().collect();
    let doubled: Vec<&[u8]> = own.iter().chain(&own).copied().collect();
    if labels.ends_with(&doubled) {
        let kept = labels[..labels.len() - own.len()].iter().copied();
        let name = DnsName::from_labels(kept).map_err(|error| wrong(error.to_string()))?;
        said.push(format!("`{text}` repeats the zone's name; {name} was taken"));
        return Ok(name);
    }
    if absolute.is_within(zone) || (full && labels.len() > 1 && ends_in_a_top_level(&absolute)) {
        // In an owner nobody could mean anything else; a target would be something else in a zone file.
        if full {
            said.push(format!("`{text}` was taken as the full name {absolute}"));
        }
        return Ok(absolute);
    }
    read(zone)
}

/// Whether the last label is a top-level domain in use, or one kept for examples and inner networks (RFC 6761).
fn ends_in_a_top_level(name: &DnsName) -> bool {
    const KEPT: [&str; 8] = ["example", "test", "invalid", "localhost", "local", "internal", "arpa", "onion"];
    let bare = name.bare();
    let last = bare.rsplit('.').next().unwrap_or_default();
    KEPT.contains(&last) || ends_in_known_suffix(&bare)
}

/// Reads the data of one record. Text for TXT may be given without quotes and of any length; it is split.
pub fn data_as_meant(typed: &str, record_type: RecordType, zone: &DnsName) -> Result<Meant<RecordData>, TypedError> {
    let mut said = Vec::new();
    let trimmed = typed.trim();
    let wrong = |reason: String| TypedError::Data { typed: trimmed.to_string(), record_type, reason };
    if record_type == RecordType::TXT && !trimmed.starts_with('"') {
        let strings: Vec<Vec<u8>> = trimmed.as_bytes().chunks(255).map(<[u8]>::to_vec).collect();
        if strings.is_empty() {
            return Err(wrong("a text is needed".into()));
        }
        if strings.len() > 1 {
            said.push(format!("the text is split into {} strings of at most 255 bytes", strings.len()));
        }
        return Ok(Meant { value: RecordData::Txt(strings.into()), said });
    }
    let mut line = LogicalLine::default();
    let read = logical_line(trimmed.as_bytes(), 0, &mut line).map_err(|error| wrong(error.problem.to_string()))?;
    if !read || line.span.end < trimmed.len() {
        return Err(wrong("one line of data is needed".into()));
    }
    let mut tokens: Vec<DataToken<'_>> = line
        .tokens
        .iter()
        .map(|token| DataToken { text: trimmed[token.span.clone()].into(), quoted: token.quoted })
        .collect();
    // SVCB and HTTPS have their target in the middle.
    let target = match record_type.0 {
        64 | 65 => tokens.get(1),
        _ => tokens.last().filter(|_| ends_in_a_name(record_type)),
    };
    if let Some(why) = target.and_then(|target| no_target(&target.text, record_type)) {
        return Err(wrong(why));
    }
    if let Some(last) = tokens.last_mut().filter(|_| ends_in_a_name(record_type)) {
        last.text = name_as_meant(&last.text, zone, true, &mut said)?.to_string().into();
    }
    // Nobody types the quotes that a master file wants around a URI.
    if let (256, Some(last)) = (record_type.0, tokens.last_mut()) {
        last.quoted = true;
    }
    let value = RecordData::parse(record_type, &tokens, zone).map_err(|error| wrong(error.message))?;
    if let RecordData::Verbatim { .. } = value {
        let number = record_type.0;
        return Err(wrong(format!("this type can only be entered as `TYPE{number}` with `\\# LENGTH HEX` (RFC 3597)")));
    }
    Ok(Meant { value, said })
}

/// Why something cannot be the target of a record, which is the name of a host and nothing else.
fn no_target(typed: &str, record_type: RecordType) -> Option<String> {
    let takes = format!("{record_type} takes the name of a host");
    let bare = typed.trim_end_matches('.').trim_start_matches('[').trim_end_matches(']');
    if bare.parse::<IpAddr>().is_ok() {
        return Some(format!("an address; {takes}. Give the host an A or AAAA record"));
    }
    if let Some((_, rest)) = typed.split_once("://") {
        let host = rest.split(['/', '?', '#', ':']).next().unwrap_or_default();
        return Some(format!("a URL; {takes}, such as {host}. A page is reached by a redirect"));
    }
    match typed.find(['@', ':', '/']).map(|at| typed.as_bytes()[at]) {
        Some(b'@') if typed != "@" => Some(format!("a mailbox; {takes}")),
        Some(b':') => Some(format!("a host with a port; {takes} alone")),
        Some(b'/') if !is_reverse(typed) => Some(format!("a path; {takes}")),
        _ => None,
    }
}

/// Names of classless reverse zones have a slash (RFC 2317 section 4).
fn is_reverse(typed: &str) -> bool {
    let before = typed.split('/').next().unwrap_or_default();
    before.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.')
}

/// NS, CNAME, PTR, MX, SRV, DNAME and their like.
fn ends_in_a_name(record_type: RecordType) -> bool {
    matches!(record_type.0, 2 | 5 | 12 | 15 | 18 | 33 | 35 | 36 | 39)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn zone() -> DnsName {
        DnsName::absolute("gullrock.example").unwrap()
    }

    fn owner(typed: &str) -> (String, usize) {
        let meant = owner_as_meant(typed, &zone()).unwrap();
        (meant.value.bare(), meant.said.len())
    }

    #[test]
    fn a_target_is_the_name_of_a_host_and_nothing_else() {
        let wrong = |kind: &str, typed: &str| {
            let error = data_as_meant(typed, RecordType::parse(kind).unwrap(), &zone()).unwrap_err();
            let TypedError::Data { reason, .. } = error else { panic!("{error:?}") };
            reason
        };
        for (kind, typed, what) in [
            ("CNAME", "https://shop.crumbandtide.example/bread", "a URL"),
            ("CNAME", "192.0.2.1", "an address"),
            ("CNAME", "shop.crumbandtide.example:8443", "a port"),
            ("CNAME", "shop.crumbandtide.example/bread", "a path"),
            ("NS", "192.0.2.1.", "an address"),
            ("NS", "[2001:db8::1]", "an address"),
            ("MX", "10 post@crumbandtide.example", "a mailbox"),
            ("MX", "10 192.0.2.1", "an address"),
            ("MX", "10 mail.crumbandtide.example:25", "a port"),
            ("SRV", "0 1 443 2001:db8::1", "an address"),
            ("HTTPS", "1 https://cdn.example/ alpn=h2", "a URL"),
            ("PTR", "post@crumbandtide.example", "a mailbox"),
        ] {
            let why = wrong(kind, typed);
            assert!(why.contains(what) && why.contains(&format!("{kind} takes the name of a host")), "{typed}: {why}");
        }
        assert!(wrong("CNAME", "https://shop.example/x").contains("such as shop.example."));
        for (kind, typed) in
            [("CNAME", "@"), ("MX", "0 ."), ("HTTPS", "1 . alpn=h2"), ("PTR", "4.0/25.2.0.192.in-addr.arpa.")]
        {
            data_as_meant(typed, RecordType::parse(kind).unwrap(), &zone()).unwrap();
        }
    }

    #[test]
    fn owners_as_people_type_them() {
        assert_eq!(owner("www"), ("www.gullrock.example".into(), 0));
        assert_eq!(owner("@"), ("gullrock.example".into(), 0));
        assert_eq!(owner("a.b"), ("a.b.gullrock.example".into(), 0));
        assert_eq!(owner("www.gullrock.example."), ("www.gullrock.example".into(), 0));
        assert_eq!(owner("www.gullrock.example"), ("www.gullrock.example".into(), 0));
        assert_eq!(owner("www.gullrock.example.gullrock.example"), ("www.gullrock.example".into(), 1));
        assert_eq!(owner(" www "), ("www.gullrock.example".into(), 1));
        assert_eq!(owner("https://www.gullrock.example/boats"), ("www.gullrock.example".into(), 1));
        assert_eq!(owner("köder"), ("xn--kder-5qa.gullrock.example".into(), 1));
        assert!(matches!(owner_as_meant("a b", &zone()), Err(TypedError::Blank(_))));
        assert!(matches!(owner_as_meant("www.choir.example.", &zone()), Err(TypedError::OutOfZone { .. })));
        assert!(matches!(owner_as_meant("a..b", &zone()), Err(TypedError::Name { .. })));
    }

    fn data(record_type: RecordType, typed: &str) -> (String, usize) {
        let meant = data_as_meant(typed, record_type, &zone()).unwrap();
        (meant.value.to_string(), meant.said.len())
    }

    #[test]
    fn data_as_people_type_it() {
        assert_eq!(data(RecordType::MX, "10 mail"), ("10 mail.gullrock.example.".into(), 0));
        assert_eq!(data(RecordType::MX, "10 mx.provider.example"), ("10 mx.provider.example.".into(), 1));
        assert_eq!(data(RecordType::MX, "10 mx.provider.co.uk"), ("10 mx.provider.co.uk.".into(), 1));
        assert_eq!(data(RecordType::NS, "ns.dock"), ("ns.dock.gullrock.example.".into(), 0));
        assert_eq!(data(RecordType::CNAME, "@"), ("gullrock.example.".into(), 0));
        assert_eq!(data(RecordType::TXT, "v=spf1 mx; -all"), ("\"v=spf1 mx; -all\"".into(), 0));
        assert_eq!(data(RecordType::TXT, "\"one\" two"), ("\"one\" \"two\"".into(), 0));
        let long = data(RecordType::TXT, &"a".repeat(600));
        assert_eq!((long.0.matches("\" \"").count(), long.1), (2, 1));
        assert!(data_as_meant("192.0.2.256", RecordType::A, &zone()).is_err());
        assert!(data_as_meant("", RecordType::A, &zone()).is_err());
        assert!(data_as_meant("1 (\n2", RecordType::MX, &zone()).is_err());
    }
}
