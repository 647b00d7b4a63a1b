//! Record data as typed values, between the tokens of a zone file and the text that is written.
//!
//! Typed are the types that the program decides about; every other type keeps its text as it stands. The wire form
//! is made and read by the codec in `brightharbor-io`.

use std::fmt;
use std::net::{Ipv4Addr, Ipv6Addr};

use serde::{Deserialize, Serialize};

use super::RecordType;
use super::ttl::parse_ttl;
use crate::name::DnsName;

/// The data of one record.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "UPPERCASE")]
pub enum RecordData {
    A(Ipv4Addr),
    Aaaa(Ipv6Addr),
    Ns(DnsName),
    Cname(DnsName),
    Soa(Soa),
    Mx {
        preference: u16,
        exchange: DnsName,
    },
    /// The character strings, unescaped.
    Txt(Vec<Vec<u8>>),
    /// Any other type: its data in presentation form, one blank between tokens.
    Other {
        record_type: RecordType,
        text: String,
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
    pub text: &'a str,
    pub quoted: bool,
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
            Self::Other { record_type, .. } => *record_type,
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

    /// Reads the data of a record; the error says what was expected instead.
    pub(super) fn parse(record_type: RecordType, tokens: &[DataToken<'_>], origin: &DnsName) -> Result<Self, String> {
        let exactly = |count: usize| match tokens.len() {
            found if found == count => Ok(()),
            found => Err(format!("{record_type} takes {}, found {found}", values(count))),
        };
        let name = |index: usize| DnsName::parse(tokens[index].text, origin).map_err(|error| error.to_string());
        match record_type {
            // RFC 3597 section 5: `\# LENGTH HEX` stands for the data of any type.
            _ if tokens.first().is_some_and(|token| !token.quoted && token.text == "\\#") => {
                Ok(Self::Other { record_type, text: joined(tokens) })
            }
            RecordType::A => {
                exactly(1)?;
                let text = tokens[0].text;
                text.parse().map(Self::A).map_err(|_| format!("`{text}` is not an IPv4 address"))
            }
            RecordType::AAAA => {
                exactly(1)?;
                let text = tokens[0].text;
                text.parse().map(Self::Aaaa).map_err(|_| format!("`{text}` is not an IPv6 address"))
            }
            RecordType::NS => exactly(1).and_then(|()| name(0)).map(Self::Ns),
            RecordType::CNAME => exactly(1).and_then(|()| name(0)).map(Self::Cname),
            RecordType::MX => {
                exactly(2)?;
                let text = tokens[0].text;
                let preference = text.parse().map_err(|_| format!("`{text}` is not an MX preference (0 to 65535)"))?;
                Ok(Self::Mx { preference, exchange: name(1)? })
            }
            RecordType::TXT => {
                if tokens.is_empty() {
                    return Err("TXT takes at least one string".into());
                }
                tokens.iter().map(|token| character_string(token.text)).collect::<Result<_, _>>().map(Self::Txt)
            }
            RecordType::SOA => {
                exactly(7)?;
                let number = |index: usize| {
                    let text = tokens[index].text;
                    parse_ttl(text).ok_or_else(|| format!("`{text}` is not a time in seconds or with units"))
                };
                let serial = tokens[2].text;
                Ok(Self::Soa(Soa {
                    primary: name(0)?,
                    hostmaster: name(1)?,
                    serial: serial.parse().map_err(|_| format!("`{serial}` is not a serial (0 to 4294967295)"))?,
                    refresh: number(3)?,
                    retry: number(4)?,
                    expire: number(5)?,
                    negative_ttl: number(6)?,
                }))
            }
            _ if tokens.is_empty() => Err(format!("{record_type} without data")),
            _ => Ok(Self::Other { record_type, text: joined(tokens) }),
        }
    }
}

fn values(count: usize) -> String {
    if count == 1 { "one value".into() } else { format!("{count} values") }
}

fn joined(tokens: &[DataToken<'_>]) -> String {
    let words: Vec<String> = tokens
        .iter()
        .map(|token| if token.quoted { format!("\"{}\"", token.text) } else { token.text.to_string() })
        .collect();
    words.join(" ")
}

/// Takes the escapes out of a character string (RFC 1035 section 5.1); 255 bytes at most.
fn character_string(text: &str) -> Result<Vec<u8>, String> {
    let bytes = text.as_bytes();
    let mut string = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        match (bytes[at], bytes.get(at + 1)) {
            (b'\\', Some(digit)) if digit.is_ascii_digit() => {
                let value = text.get(at + 1..at + 4).and_then(|digits| digits.parse::<u8>().ok());
                string.push(value.ok_or("an escape `\\DDD` needs three digits up to 255")?);
                at += 4;
            }
            (b'\\', Some(byte)) => {
                string.push(*byte);
                at += 2;
            }
            (byte, _) => {
                string.push(byte);
                at += 1;
            }
        }
    }
    if string.len() > 255 {
        return Err(format!("a string of {} bytes; 255 are allowed, split it in two", string.len()));
    }
    Ok(string)
}

fn write_character_string(f: &mut fmt::Formatter<'_>, string: &[u8]) -> fmt::Result {
    f.write_str("\"")?;
    for &byte in string {
        match byte {
            b'"' | b'\\' => write!(f, "\\{}", byte as char)?,
            0x20..=0x7e => write!(f, "{}", byte as char)?,
            _ => write!(f, "\\{byte:03}")?,
        }
    }
    f.write_str("\"")
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
                    write_character_string(f, string)?;
                }
                Ok(())
            }
            Self::Soa(soa) => write!(
                f,
                "{} {} {} {} {} {} {}",
                soa.primary, soa.hostmaster, soa.serial, soa.refresh, soa.retry, soa.expire, soa.negative_ttl
            ),
            Self::Other { text, .. } => f.write_str(text),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parse(record_type: RecordType, words: &[&str]) -> Result<String, String> {
        let tokens: Vec<_> = words.iter().map(|text| DataToken { text, quoted: false }).collect();
        let origin = DnsName::absolute("lanternchoir.example").unwrap();
        RecordData::parse(record_type, &tokens, &origin).map(|data| data.to_string())
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
        assert_eq!(parse(RecordType(65280), &["\\#", "2", "abcd"]).unwrap(), "\\# 2 abcd");
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
