//! Record data as typed values, between the tokens of a zone file and the text that is written.
//!
//! The types that the program decides about have variants of their own; the others are made of the parts that
//! `schema` names. A type that is only known by its number is kept as bytes (RFC 3597).

mod fields;
mod forms;
mod from_wire;
mod location;
mod parameters;
mod parse;
mod rewriting;
mod schema;
mod text;
mod wire_form;

use std::borrow::Cow;
use std::fmt;
use std::net::{Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use super::RecordType;
use crate::name::DnsName;
pub use fields::Field;
pub(super) use fields::moment;
pub use schema::algorithm_word;
pub(crate) use text::base32_hex;

/// The data of one record.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum RecordData {
    A(Ipv4Addr),
    Aaaa(Ipv6Addr),
    Ns(DnsName),
    Cname(DnsName),
    /// Boxed: a zone has one, and every other record would be as large.
    Soa(Box<Soa>),
    Mx {
        preference: u16,
        exchange: DnsName,
    },
    /// The character strings, unescaped.
    Txt(Box<[Vec<u8>]>),
    /// Any other type whose parts are known.
    Fields {
        record_type: RecordType,
        fields: Box<[Field]>,
    },
    /// A type that has a name, and whose form is not known here: as it is written.
    Verbatim {
        record_type: RecordType,
        text: Box<str>,
    },
    /// A type that is only known by its number (RFC 3597).
    Unknown {
        record_type: RecordType,
        data: Box<[u8]>,
    },
}

/// The start of authority (RFC 1035 section 3.3.13); times in seconds.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Soa {
    pub primary: DnsName,
    pub hostmaster: DnsName,
    pub serial: u32,
    pub refresh: u32,
    pub retry: u32,
    pub expire: u32,
    /// How long a "no such name" may be cached (RFC 2308 section 4).
    pub negative_ttl: u32,
}

/// A token as record data sees it: its raw text and whether it stood in quotes.
pub(super) struct DataToken<'a> {
    pub text: Cow<'a, str>,
    pub quoted: bool,
}

impl DataToken<'_> {
    /// The text of a value that may not stand in quotes.
    fn bare(&self) -> Result<&str, String> {
        match self.quoted {
            false => Ok(&self.text),
            true => Err(format!("`{}` must not stand in quotes", text::shortened(&self.text))),
        }
    }
}

impl RecordData {
    pub fn record_type(&self) -> RecordType {
        match self {
            Self::A(_) => RecordType::A,
            Self::Aaaa(_) => RecordType::AAAA,
            Self::Ns(_) => RecordType::NS,
            Self::Cname(_) => RecordType::CNAME,
            Self::Soa(_) => RecordType::SOA,
            Self::Mx { .. } => RecordType::MX,
            Self::Txt(_) => RecordType::TXT,
            Self::Fields { record_type, .. }
            | Self::Verbatim { record_type, .. }
            | Self::Unknown { record_type, .. } => *record_type,
        }
    }

    /// The type that a signature covers.
    pub fn covered(&self) -> Option<RecordType> {
        match self {
            Self::Fields { record_type: RecordType(24 | 46), fields } => match fields.first() {
                Some(Field::Type(covered)) => Some(*covered),
                _ => None,
            },
            _ => None,
        }
    }

    /// An A or AAAA record's data.
    pub fn of_address(address: std::net::IpAddr) -> Self {
        match address {
            std::net::IpAddr::V4(v4) => Self::A(v4),
            std::net::IpAddr::V6(v6) => Self::Aaaa(v6),
        }
    }

    /// The address of an A or AAAA record.
    pub fn address(&self) -> Option<std::net::IpAddr> {
        match self {
            Self::A(address) => Some((*address).into()),
            Self::Aaaa(address) => Some((*address).into()),
            _ => None,
        }
    }

    /// Reads the data from wire form, names uncompressed. `None` if it does not fit a type that is known.
    pub fn from_wire(record_type: RecordType, wire: &[u8]) -> Option<Self> {
        use schema::Part;
        let name_of = |fields: &[Field]| match fields.last() {
            Some(Field::Name(name)) => Some(name.clone()),
            _ => None,
        };
        let read = |parts: &[Part]| from_wire::from_wire(parts, wire);
        Some(match record_type {
            RecordType::A => Self::A(<[u8; 4]>::try_from(wire).ok()?.into()),
            RecordType::AAAA => Self::Aaaa(<[u8; 16]>::try_from(wire).ok()?.into()),
            RecordType::NS => Self::Ns(name_of(&read(&[Part::Name])?)?),
            RecordType::CNAME => Self::Cname(name_of(&read(&[Part::Name])?)?),
            RecordType::MX => match &read(&[Part::U16, Part::Name])?[..] {
                [Field::Number(preference), Field::Name(exchange)] => {
                    Self::Mx { preference: *preference as u16, exchange: exchange.clone() }
                }
                _ => return None,
            },
            RecordType::TXT => {
                let strings = read(&[Part::Texts])?.into_iter().filter_map(|field| match field {
                    Field::Text(string) => Some(string),
                    _ => None,
                });
                Self::Txt(strings.collect())
            }
            RecordType::SOA => {
                let fields = read(&[Part::Name, Part::Name, Part::U32, Part::U32, Part::U32, Part::U32, Part::U32])?;
                let number = |index: usize| if let Field::Number(value) = fields[index] { value } else { 0 };
                Self::Soa(Box::new(Soa {
                    primary: name_of(&fields[..1])?,
                    hostmaster: name_of(&fields[..2])?,
                    serial: number(2),
                    refresh: number(3),
                    retry: number(4),
                    expire: number(5),
                    negative_ttl: number(6),
                }))
            }
            _ => match schema::parts_of(record_type) {
                Some(parts) => match read(parts) {
                    Some(fields) => Self::Fields { record_type, fields: fields.into() },
                    // Kinds of relays that have no notation yet (RFC 8777 section 4.2.3).
                    None if record_type.0 == 260 && wire.get(1).is_some_and(|kind| kind & 0x7f > 3) => {
                        Self::Unknown { record_type, data: wire.into() }
                    }
                    None => return None,
                },
                None => Self::Unknown { record_type, data: wire.into() },
            },
        })
    }
}

impl fmt::Display for RecordData {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::A(address) => write!(f, "{address}"),
            Self::Aaaa(address) => write!(f, "{address}"),
            Self::Ns(name) | Self::Cname(name) => write!(f, "{name}"),
            Self::Mx { preference, exchange } => write!(f, "{preference} {exchange}"),
            Self::Txt(strings) => {
                for (index, string) in strings.iter().enumerate() {
                    if index > 0 {
                        f.write_str(" ")?;
                    }
                    text::write_quoted(f, string)?;
                }
                Ok(())
            }
            Self::Soa(soa) => write!(
                f,
                "{} {} {} {} {} {} {}",
                soa.primary, soa.hostmaster, soa.serial, soa.refresh, soa.retry, soa.expire, soa.negative_ttl
            ),
            Self::Fields { fields, .. } => {
                let words: Vec<String> = fields.iter().map(ToString::to_string).filter(|w| !w.is_empty()).collect();
                f.write_str(&words.join(" "))
            }
            Self::Verbatim { text, .. } => f.write_str(text),
            Self::Unknown { data, .. } => {
                write!(f, "\\# {}", data.len())?;
                if data.is_empty() {
                    return Ok(());
                }
                f.write_str(" ")?;
                text::write_hex(f, data)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(record_type: RecordType, words: &[&str]) -> Result<String, String> {
        let tokens: Vec<_> = words.iter().map(|text| DataToken { text: (*text).into(), quoted: false }).collect();
        let origin = DnsName::absolute("lanternchoir.example").unwrap();
        let read = RecordData::parse(record_type, &tokens, &origin);
        read.map(|data| data.to_string()).map_err(|error| error.message)
    }

    #[test]
    fn typed_data_is_read_and_written() {
        assert_eq!(parse(RecordType::A, &["192.0.2.1"]).unwrap(), "192.0.2.1");
        assert_eq!(parse(RecordType::AAAA, &["2001:DB8::1"]).unwrap(), "2001:db8::1");
        assert_eq!(parse(RecordType::MX, &["10", "mail"]).unwrap(), "10 mail.lanternchoir.example.");
        assert_eq!(parse(RecordType::TXT, &["v=spf1 -all", "a\\\"b\\200"]).unwrap(), "\"v=spf1 -all\" \"a\\\"b\\200\"");
        assert_eq!(
            parse(RecordType::SOA, &["ns1", "hostmaster", "7", "1h", "15m", "2w", "300"]).unwrap(),
            "ns1.lanternchoir.example. hostmaster.lanternchoir.example. 7 3600 900 1209600 300"
        );
        assert_eq!(parse(RecordType(65280), &["\\#", "2", "ab", "cd"]).unwrap(), "\\# 2 ABCD");
    }

    #[test]
    fn wrong_data_says_what_was_expected() {
        assert_eq!(parse(RecordType::A, &["192.0.2.256"]).unwrap_err(), "`192.0.2.256` is not an IPv4 address");
        assert_eq!(parse(RecordType::A, &[]).unwrap_err(), "A takes one value, found 0");
        assert_eq!(
            parse(RecordType::MX, &["high", "mail"]).unwrap_err(),
            "`high` is not an MX preference (0 to 65535)"
        );
        assert!(parse(RecordType::TXT, &["a\\99"]).is_err());
        assert!(parse(RecordType::TXT, &[&"a".repeat(256)]).unwrap_err().contains("256 bytes"));
    }
}
