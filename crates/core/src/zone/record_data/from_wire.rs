//! Parts of record data out of their wire form, as RFC 3597 writes data of any type. The way back is `wire_form`.

use super::fields::{Field, sorted};
use super::forms;
use super::location::Location;
use super::parameters::Parameters;
use super::rewriting;
use super::schema::Part;
use crate::name::DnsName;
use crate::zone::RecordType;

/// Reads all parts from wire form, for data written as RFC 3597 has it. `None` if it does not fit the type.
pub(super) fn from_wire(parts: &[Part], mut wire: &[u8]) -> Option<Vec<Field>> {
    let mut fields = Vec::with_capacity(parts.len());
    for part in parts {
        fields.push(match part {
            Part::U8 | Part::Algorithm | Part::KeyProtocol | Part::DigestType | Part::Scheme => {
                Field::Number(take(&mut wire, 1)?[0].into())
            }
            Part::U16 | Part::CertificateType | Part::KeyFlags => Field::Number(be(take(&mut wire, 2)?)),
            Part::U32 | Part::Seconds => Field::Number(be(take(&mut wire, 4)?)),
            Part::Moment => Field::Moment(be(take(&mut wire, 4)?)),
            Part::Type => Field::Type(RecordType(be(take(&mut wire, 2)?) as u16)),
            Part::Name => Field::Name(name(&mut wire)?),
            Part::MaybeText if wire.is_empty() => continue,
            Part::Rewriting => {
                Field::Text(counted(&mut wire).filter(|expression| rewriting::check(expression).is_ok())?)
            }
            Part::Text | Part::MaybeText | Part::Digits => Field::Text(counted(&mut wire)?),
            Part::Texts => {
                while !wire.is_empty() {
                    fields.push(Field::Text(counted(&mut wire)?));
                }
                continue;
            }
            Part::Salt => Field::Salt(counted(&mut wire)?),
            Part::Hash => Field::Hash(counted(&mut wire)?),
            Part::Tag => Field::Tag(String::from_utf8(counted(&mut wire)?).ok()?),
            Part::LongText | Part::QuotedText => Field::Text(std::mem::take(&mut wire).to_vec()),
            Part::Hex => Field::Hex(std::mem::take(&mut wire).to_vec()),
            Part::Base64 | Part::MaybeBase64 => Field::Base64(std::mem::take(&mut wire).to_vec()),
            Part::Special(form) => {
                let bytes = match form.length() {
                    Some(length) => take(&mut wire, length)?,
                    None => std::mem::take(&mut wire),
                };
                Field::Special { form: *form, wire: Some(bytes).filter(|wire| forms::fits(*form, wire))?.to_vec() }
            }
            Part::Types => Field::Types(bitmap(std::mem::take(&mut wire))?),
            Part::Location => Field::Location(Location::from_wire(std::mem::take(&mut wire))?),
            Part::Parameters => Field::Parameters(Parameters::from_wire(std::mem::take(&mut wire))?),
        });
    }
    wire.is_empty().then_some(fields)
}

pub(super) fn take<'a>(wire: &mut &'a [u8], count: usize) -> Option<&'a [u8]> {
    let (head, rest) = wire.split_at_checked(count)?;
    *wire = rest;
    Some(head)
}

fn be(bytes: &[u8]) -> u32 {
    bytes.iter().fold(0, |value, byte| value << 8 | u32::from(*byte))
}

fn counted(wire: &mut &[u8]) -> Option<Vec<u8>> {
    let length = take(wire, 1)?[0];
    take(wire, length.into()).map(<[u8]>::to_vec)
}

pub(super) fn name(wire: &mut &[u8]) -> Option<DnsName> {
    let mut labels = Vec::new();
    loop {
        match take(wire, 1)?[0] {
            0 => return DnsName::from_labels(labels).ok(),
            length @ 1..=63 => labels.push(take(wire, length.into())?),
            _ => return None,
        }
    }
}

/// The type bitmap of RFC 4034 section 4.1.2.
fn bitmap(mut wire: &[u8]) -> Option<Vec<RecordType>> {
    let mut types = Vec::new();
    while !wire.is_empty() {
        let window = u16::from(take(&mut wire, 1)?[0]);
        let length = take(&mut wire, 1)?[0];
        if !(1..=32).contains(&length) {
            return None;
        }
        for (index, byte) in take(&mut wire, length.into())?.iter().enumerate() {
            let set = (0..8).filter(|bit| byte & (0x80 >> bit) != 0);
            types.extend(set.map(|bit| RecordType(window << 8 | (index as u16) << 3 | bit)));
        }
    }
    Some(sorted(types))
}
