//! The parameters of SVCB and HTTPS records (RFC 9460 section 2.1): keys with values, in ascending order of keys.

use std::collections::BTreeMap;
use std::fmt;
use std::net::{Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use super::{DataToken, text};
use crate::name::DnsName;

/// Values in wire form, by key.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Parameters(BTreeMap<u16, Vec<u8>>);

const KEYS: [&str; 8] = ["mandatory", "alpn", "no-default-alpn", "port", "ipv4hint", "ech", "ipv6hint", "dohpath"];

impl Parameters {
    pub(super) fn parse(tokens: &[DataToken<'_>], _: &DnsName) -> Result<Self, String> {
        let mut all = BTreeMap::new();
        // `alpn="h2"` comes as two tokens, the second one quoted.
        let mut rest = tokens.iter().peekable();
        while let Some(token) = rest.next() {
            let mut word = token.text.to_string();
            if word.ends_with('=')
                && let Some(value) = rest.next_if(|next| next.quoted)
            {
                word.push_str(&value.text);
            }
            let (name, value) = match word.split_once('=') {
                Some((name, value)) => (name, Some(value)),
                None => (word.as_str(), None),
            };
            let number = key(name)?;
            if all.insert(number, value_to_wire(number, name, value)?).is_some() {
                return Err(format!("the parameter {name} stands twice"));
            }
        }
        let parameters = Self(all);
        parameters.check_mandatory()?;
        Ok(parameters)
    }

    fn check_mandatory(&self) -> Result<(), String> {
        for pair in self.0.get(&0).map(Vec::as_slice).unwrap_or_default().chunks_exact(2) {
            let number = u16::from_be_bytes([pair[0], pair[1]]);
            if number == 0 || !self.0.contains_key(&number) {
                return Err(format!("{} is named as mandatory and is not there", key_name(number)));
            }
        }
        if self.0.contains_key(&2) && !self.0.contains_key(&1) {
            return Err("no-default-alpn needs alpn beside it".into());
        }
        Ok(())
    }

    pub(super) fn to_wire(&self) -> Vec<u8> {
        let mut wire = Vec::new();
        for (number, value) in &self.0 {
            wire.extend(number.to_be_bytes());
            wire.extend((value.len() as u16).to_be_bytes());
            wire.extend(value);
        }
        wire
    }

    pub(super) fn from_wire(mut wire: &[u8]) -> Option<Self> {
        let mut all = BTreeMap::new();
        while !wire.is_empty() {
            let (head, rest) = wire.split_at_checked(4)?;
            let number = u16::from_be_bytes([head[0], head[1]]);
            let length = u16::from_be_bytes([head[2], head[3]]);
            let (value, rest) = rest.split_at_checked(length.into())?;
            // Strictly ascending (section 2.2).
            if all.last_key_value().is_some_and(|(last, _)| *last >= number) {
                return None;
            }
            all.insert(number, value.to_vec());
            wire = rest;
        }
        Some(Self(all))
    }
}

fn key(name: &str) -> Result<u16, String> {
    if let Some(number) = KEYS.iter().position(|known| *known == name) {
        return Ok(number as u16);
    }
    let digits = name.strip_prefix("key").filter(|digits| *digits == "0" || !digits.starts_with('0'));
    let number = digits.and_then(|digits| digits.parse().ok()).filter(|number| *number != u16::MAX);
    number.ok_or_else(|| format!("`{}` is not a service parameter", text::shortened(name)))
}

fn key_name(number: u16) -> String {
    KEYS.get(usize::from(number)).map_or_else(|| format!("key{number}"), |name| name.to_string())
}

/// Items joined by commas; a comma inside one is escaped by a backslash (appendix A.1).
fn items(value: &[u8]) -> Vec<Vec<u8>> {
    let mut all = vec![Vec::new()];
    let mut bytes = value.iter();
    while let Some(&byte) = bytes.next() {
        match byte {
            b',' => all.push(Vec::new()),
            b'\\' => all.last_mut().expect("never empty").extend(bytes.next()),
            _ => all.last_mut().expect("never empty").push(byte),
        }
    }
    all
}

/// Whether bytes are the value of a known parameter.
fn fits_wire(number: u16, bytes: &[u8]) -> bool {
    match number {
        0 => !bytes.is_empty() && bytes.len().is_multiple_of(2),
        1 => {
            let mut rest = bytes;
            while let Some((&length, more)) = rest.split_first() {
                match more.get(usize::from(length)..) {
                    Some(behind) if length > 0 => rest = behind,
                    _ => return false,
                }
            }
            !bytes.is_empty()
        }
        3 => bytes.len() == 2,
        4 => !bytes.is_empty() && bytes.len().is_multiple_of(4),
        6 => !bytes.is_empty() && bytes.len().is_multiple_of(16),
        _ => !bytes.is_empty(),
    }
}

fn value_to_wire(number: u16, name: &str, value: Option<&str>) -> Result<Vec<u8>, String> {
    let wrong = |value: &str| format!("`{}` is not a value for {name}", text::shortened(value));
    if number == 2 {
        return match value {
            None | Some("") => Ok(vec![]),
            Some(value) => Err(wrong(value)),
        };
    }
    let Some(value) = value else {
        // A configuration that is empty is one that is not there.
        return if number > 7 || number == 5 { Ok(vec![]) } else { Err(format!("{name} needs a value")) };
    };
    let bytes = text::unescape(value)?;
    // By its number, a known parameter is given in wire form (RFC 9460 section 2.1).
    if name.starts_with("key") && number <= 7 {
        return if fits_wire(number, &bytes) { Ok(bytes) } else { Err(wrong(value)) };
    }
    let plain = String::from_utf8_lossy(&bytes).into_owned();
    let list = || plain.split(',');
    let wire: Vec<u8> = match number {
        0 => {
            let mut keys = list().map(key).collect::<Result<Vec<u16>, _>>()?;
            keys.sort_unstable();
            if keys.windows(2).any(|pair| pair[0] == pair[1]) {
                return Err(format!("{name} names a key twice"));
            }
            keys.into_iter().flat_map(u16::to_be_bytes).collect()
        }
        1 => {
            let mut wire = Vec::new();
            for item in items(&bytes) {
                if item.is_empty() || item.len() > 255 {
                    return Err(wrong(value));
                }
                wire.push(item.len() as u8);
                wire.extend(item);
            }
            wire
        }
        3 => plain.parse::<u16>().map_err(|_| wrong(value))?.to_be_bytes().to_vec(),
        4 => {
            let addresses = list().map(|item| item.parse::<Ipv4Addr>().map_err(|_| wrong(item)));
            addresses.collect::<Result<Vec<_>, _>>()?.iter().flat_map(Ipv4Addr::octets).collect()
        }
        5 => text::base64(&plain)?,
        6 => {
            let addresses = list().map(|item| item.parse::<Ipv6Addr>().map_err(|_| wrong(item)));
            addresses.collect::<Result<Vec<_>, _>>()?.iter().flat_map(Ipv6Addr::octets).collect()
        }
        _ => bytes,
    };
    Ok(wire)
}

impl fmt::Display for Parameters {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, (number, value)) in self.0.iter().enumerate() {
            let space = if index > 0 { " " } else { "" };
            write!(f, "{space}{}", key_name(*number))?;
            write_value(f, *number, value)?;
        }
        Ok(())
    }
}

fn write_value(f: &mut fmt::Formatter<'_>, number: u16, value: &[u8]) -> fmt::Result {
    let join = |items: Vec<String>| items.join(",");
    let pairs = value.chunks_exact(2).map(|pair| u16::from_be_bytes([pair[0], pair[1]]));
    match number {
        _ if value.is_empty() => Ok(()),
        0 => write!(f, "={}", join(pairs.map(key_name).collect())),
        3 if value.len() == 2 => write!(f, "={}", join(pairs.map(|port| port.to_string()).collect())),
        4 if value.len().is_multiple_of(4) => {
            let octets = value.chunks_exact(4).map(|o| Ipv4Addr::new(o[0], o[1], o[2], o[3]).to_string());
            write!(f, "={}", join(octets.collect()))
        }
        5 => {
            f.write_str("=")?;
            text::write_base64(f, value)
        }
        6 if value.len().is_multiple_of(16) => {
            let octets = value.chunks_exact(16).filter_map(|o| <[u8; 16]>::try_from(o).ok());
            write!(f, "={}", join(octets.map(|o| Ipv6Addr::from(o).to_string()).collect()))
        }
        1 => {
            let mut joined = Vec::new();
            let mut rest = value;
            while let Some((length, more)) = rest.split_first() {
                let (item, more) = more.split_at(usize::from(*length).min(more.len()));
                if !joined.is_empty() {
                    joined.push(b',');
                }
                for &byte in item {
                    if byte == b',' || byte == b'\\' {
                        joined.push(b'\\');
                    }
                    joined.push(byte);
                }
                rest = more;
            }
            f.write_str("=")?;
            text::write_quoted(f, &joined)
        }
        _ => {
            f.write_str("=")?;
            text::write_quoted(f, value)
        }
    }
}
