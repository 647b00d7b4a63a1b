//! Data out of the tokens of a zone file, or of what somebody types: what is wrong is told with the token that it is in.

use super::{DataToken, RecordData, Soa, fields, schema, text};
use crate::name::DnsName;
use crate::zone::{RecordType, parse_ttl};

/// Why tokens are no data of their type.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::zone) struct DataError {
    /// The number of the token that is wrong; behind the last one, something is missing.
    pub token: usize,
    pub message: String,
}

impl DataError {
    pub(super) fn at(token: usize) -> impl Fn(String) -> Self {
        move |message| Self { token, message }
    }
}

impl From<String> for DataError {
    fn from(message: String) -> Self {
        Self { token: 0, message }
    }
}

impl RecordData {
    /// Reads the data of a record; the error says what was expected instead.
    pub(in crate::zone) fn parse(
        record_type: RecordType,
        tokens: &[DataToken<'_>],
        origin: &DnsName,
    ) -> Result<Self, DataError> {
        let exactly = |count: usize| match tokens.len() {
            found if found == count => Ok(()),
            found => {
                Err(DataError::at(found.min(count))(format!("{record_type} takes {}, found {found}", values(count))))
            }
        };
        let name = |index: usize| -> Result<DnsName, DataError> {
            let read = || DnsName::parse(tokens[index].bare()?, origin).map_err(|error| error.to_string());
            read().map_err(DataError::at(index))
        };
        match record_type {
            _ if is_generic(record_type, tokens) => Ok(generic(record_type, &tokens[1..])?),
            RecordType::A => {
                exactly(1)?;
                let text = tokens[0].bare()?;
                Ok(text.parse().map(Self::A).map_err(|_| format!("`{text}` is not an IPv4 address"))?)
            }
            RecordType::AAAA => {
                exactly(1)?;
                let text = tokens[0].bare()?;
                Ok(text.parse().map(Self::Aaaa).map_err(|_| format!("`{text}` is not an IPv6 address"))?)
            }
            RecordType::NS => exactly(1).and_then(|()| name(0)).map(Self::Ns),
            RecordType::CNAME => exactly(1).and_then(|()| name(0)).map(Self::Cname),
            RecordType::MX => {
                exactly(2)?;
                let text = tokens[0].bare()?;
                let preference = text.parse().map_err(|_| format!("`{text}` is not an MX preference (0 to 65535)"))?;
                Ok(Self::Mx { preference, exchange: name(1)? })
            }
            RecordType::TXT => {
                if tokens.is_empty() {
                    return Err("TXT takes at least one string".to_string().into());
                }
                let string = |(index, token): (usize, &DataToken<'_>)| {
                    text::character_string(&token.text).map_err(DataError::at(index))
                };
                tokens.iter().enumerate().map(string).collect::<Result<_, _>>().map(Self::Txt)
            }
            RecordType::SOA => {
                exactly(7)?;
                let number = |index: usize| {
                    let time = tokens[index].bare().and_then(|text| {
                        parse_ttl(text).ok_or_else(|| format!("`{text}` is not a time in seconds or with units"))
                    });
                    time.map_err(DataError::at(index))
                };
                let serial = tokens[2].bare().map_err(DataError::at(2))?;
                Ok(Self::Soa(Box::new(Soa {
                    primary: name(0)?,
                    hostmaster: name(1)?,
                    serial: serial
                        .parse()
                        .map_err(|_| DataError::at(2)(format!("`{serial}` is not a serial (0 to 4294967295)")))?,
                    refresh: number(3)?,
                    retry: number(4)?,
                    expire: number(5)?,
                    negative_ttl: number(6)?,
                })))
            }
            _ => match schema::parts_of(record_type) {
                Some(parts) => fields::parse(parts, tokens, origin)
                    .map(|fields| Self::Fields { record_type, fields: fields.into() })
                    .map_err(|error| DataError { message: format!("{record_type}: {}", error.message), ..error }),
                // RFC 973 put MX in their place.
                None if matches!(record_type.0, 3 | 4) => Err(format!("{record_type} is obsolete, use MX").into()),
                None if record_type.is_named() && !tokens.is_empty() => {
                    Ok(Self::Verbatim { record_type, text: text::verbatim(tokens).into() })
                }
                None => Err(format!("data of the type {record_type} is written as `\\# LENGTH HEX` (RFC 3597)").into()),
            },
        }
    }
}

fn values(count: usize) -> String {
    if count == 1 { "one value".into() } else { format!("{count} values") }
}

/// Whether `\\#` begins data in the form of RFC 3597. A text that begins with it is a text unless a number follows.
fn is_generic(record_type: RecordType, tokens: &[DataToken<'_>]) -> bool {
    let [first, rest @ ..] = tokens else { return false };
    let counts = || rest.first().is_some_and(|next| next.text.parse::<u32>().is_ok());
    !first.quoted && first.text == "\\#" && (record_type != RecordType::TXT || counts())
}

/// Data written as RFC 3597 section 5 has it: `\\# LENGTH HEX`. Typed where the type is known.
fn generic(record_type: RecordType, tokens: &[DataToken<'_>]) -> Result<RecordData, String> {
    let [length, rest @ ..] = tokens else { return Err("a length is missing behind `\\#`".into()) };
    let length: u16 = length.text.parse().map_err(|_| format!("`{}` is not a length", length.text))?;
    let bytes = text::hex(&rest.iter().map(|token| token.text.as_ref()).collect::<String>())?;
    if bytes.len() != usize::from(length) {
        return Err(format!("{} bytes of data, though the length says {length}", bytes.len()));
    }
    RecordData::from_wire(record_type, &bytes).ok_or_else(|| format!("these bytes are no {record_type} data"))
}
