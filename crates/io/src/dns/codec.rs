//! Between wire messages and the core's values. Reading is bounded by the message's own length.

use brightharbor_core::delegation::{Question, Reply, Transport};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Record, RecordData, RecordType, Soa};
use domain::base::iana::{Class, Rtype};
use domain::base::message::RecordSection;
use domain::base::name::{Name, ToName};
use domain::base::rdata::ComposeRecordData;
use domain::base::{Message, MessageBuilder, ParsedName};
use domain::rdata::AllRecordData;

/// What UDP answers may hold without being fragmented (the DNS flag day value, as in RFC 9715).
pub(super) const UDP_SIZE: u16 = 1232;

/// Builds the query, with its random id.
pub(super) fn query(question: &Question) -> Result<(u16, Vec<u8>), String> {
    let name = Name::from_slice(question.name.wire()).map_err(|error| error.to_string())?;
    let mut message = MessageBuilder::from_target(Vec::with_capacity(128)).map_err(|error| error.to_string())?;
    message.header_mut().set_random_id();
    message.header_mut().set_rd(question.recursion_desired);
    message.header_mut().set_cd(question.checking_disabled);
    let id = message.header().id();
    let mut message = message.question();
    message.push((name, Rtype::from_int(question.record_type.0))).map_err(|error| error.to_string())?;
    let mut message = message.additional();
    if question.transport != Transport::PlainUdp {
        let always = matches!(question.record_type, RecordType::SOA | RecordType::DNSKEY | RecordType::DS);
        let signed = always || question.with_signatures;
        message
            .opt(|opt| {
                opt.set_udp_payload_size(UDP_SIZE);
                opt.set_dnssec_ok(signed);
                Ok(())
            })
            .map_err(|error| error.to_string())?;
    }
    Ok((id, message.finish()))
}

pub(super) fn to_wire(name: &DnsName) -> Result<Name<Vec<u8>>, String> {
    Name::from_octets(name.wire().to_vec()).map_err(|error| error.to_string())
}

/// What a datagram or stream message turned out to be.
pub(super) enum Decoded {
    Reply(Reply),
    Truncated,
    /// For another question: to be ignored, as a forged or late answer.
    NotOurs,
    Garbled(String),
}

/// Reads an answer to `question`.
pub(super) fn decode(bytes: &[u8], id: u16, question: &Question) -> Decoded {
    let Ok(message) = Message::from_octets(bytes) else { return Decoded::Garbled("too short for a header".into()) };
    let header = message.header();
    if header.id() != id || !header.qr() {
        return Decoded::NotOurs;
    }
    match message.sole_question() {
        Ok(asked) => {
            let same_name = Name::from_slice(question.name.wire()).is_ok_and(|name| asked.qname().name_eq(name));
            if !same_name || asked.qtype().to_int() != question.record_type.0 {
                return Decoded::NotOurs;
            }
        }
        // Some servers leave the question out of an error answer.
        Err(_) if header.rcode().to_int() != 0 => {}
        Err(error) => return Decoded::Garbled(error.to_string()),
    }
    if header.tc() {
        return Decoded::Truncated;
    }
    match read(&message) {
        Ok(reply) => Decoded::Reply(reply),
        Err(reason) => Decoded::Garbled(reason),
    }
}

/// The records of the answer section, as in a message of a transfer.
pub(super) fn read_answer(message: &Message<Vec<u8>>) -> Result<Vec<Record>, String> {
    let message = Message::from_octets(message.as_slice()).map_err(|error| error.to_string())?;
    records(message.answer().map_err(|error| error.to_string())?)
}

fn read(message: &Message<&[u8]>) -> Result<Reply, String> {
    let words = |error: domain::base::wire::ParseError| error.to_string();
    let (_, answer, authority, additional) = message.sections().map_err(words)?;
    Ok(Reply {
        rcode: message.opt_rcode().to_int(),
        authoritative: message.header().aa(),
        recursion_available: message.header().ra(),
        edns: message.opt().is_some(),
        answer: records(answer)?,
        authority: records(authority)?,
        additional: records(additional)?,
    })
}

fn records(section: RecordSection<'_, &[u8]>) -> Result<Vec<Record>, String> {
    let mut read = Vec::new();
    for record in section {
        let record = record.map_err(|error| error.to_string())?;
        if record.rtype() == Rtype::OPT || record.class() != Class::IN {
            continue;
        }
        let owner = from_wire(&record.owner())?;
        let (rtype, ttl) = (record.rtype(), record.ttl().as_secs());
        let data = match record.to_any_record::<AllRecordData<_, ParsedName<_>>>() {
            Ok(typed) => data(rtype, typed.data())?,
            Err(error) => return Err(format!("the data of a {rtype} record: {error}")),
        };
        // RFC 2181 section 8: a TTL with the top bit set counts as 0.
        read.push(Record { owner, ttl: if ttl > 0x7fff_ffff { 0 } else { ttl }, data });
    }
    Ok(read)
}

fn data(rtype: Rtype, data: &AllRecordData<&[u8], ParsedName<&[u8]>>) -> Result<RecordData, String> {
    Ok(match data {
        AllRecordData::A(a) => RecordData::A(a.addr()),
        AllRecordData::Aaaa(aaaa) => RecordData::Aaaa(aaaa.addr()),
        AllRecordData::Ns(ns) => RecordData::Ns(from_wire(ns.nsdname())?),
        AllRecordData::Cname(cname) => RecordData::Cname(from_wire(cname.cname())?),
        AllRecordData::Mx(mx) => RecordData::Mx { preference: mx.preference(), exchange: from_wire(mx.exchange())? },
        AllRecordData::Txt(txt) => RecordData::Txt(txt.iter().map(<[u8]>::to_vec).collect()),
        AllRecordData::Soa(soa) => RecordData::Soa(Box::new(Soa {
            primary: from_wire(soa.mname())?,
            hostmaster: from_wire(soa.rname())?,
            serial: soa.serial().into_int(),
            refresh: soa.refresh().as_secs(),
            retry: soa.retry().as_secs(),
            expire: soa.expire().as_secs(),
            negative_ttl: soa.minimum().as_secs(),
        })),
        // As it came: the letters of its next name are signed as they are (RFC 6840 section 5.1).
        AllRecordData::Nsec(nsec) => {
            let mut wire = Vec::new();
            nsec.compose_rdata(&mut wire).map_err(|_| format!("the data of a {rtype} record is too long"))?;
            RecordData::Unknown { record_type: RecordType(rtype.to_int()), data: wire.into() }
        }
        other => {
            let mut wire = Vec::new();
            other.compose_rdata(&mut wire).map_err(|_| format!("the data of a {rtype} record is too long"))?;
            let record_type = RecordType(rtype.to_int());
            RecordData::from_wire(record_type, &wire).unwrap_or(RecordData::Unknown { record_type, data: wire.into() })
        }
    })
}

fn from_wire(name: &impl ToName) -> Result<DnsName, String> {
    let labels = name.iter_labels().filter(|label| !label.is_root()).map(|label| label.as_slice());
    DnsName::from_labels(labels).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn question() -> Question {
        Question {
            server: "127.0.0.1:53".parse().unwrap(),
            name: DnsName::absolute("www.gullrock.example").unwrap(),
            record_type: RecordType::A,
            transport: Transport::Udp,
            recursion_desired: true,
            with_signatures: false,
            checking_disabled: false,
        }
    }

    fn answer_to(bytes: &[u8], spoil: impl FnOnce(&mut Vec<u8>)) -> Vec<u8> {
        let mut answer = bytes.to_vec();
        answer[2] |= 0x80;
        spoil(&mut answer);
        answer
    }

    #[test]
    fn a_query_carries_name_type_edns_and_the_wish_for_recursion() {
        let (id, bytes) = query(&question()).unwrap();
        let message = Message::from_octets(&bytes[..]).unwrap();
        assert_eq!((message.header().id(), message.header().rd()), (id, true));
        assert!(!message.header().cd());
        let (_, unchecked) = query(&Question { checking_disabled: true, ..question() }).unwrap();
        assert!(Message::from_octets(&unchecked[..]).unwrap().header().cd());
        assert_eq!(message.opt().unwrap().udp_payload_size(), UDP_SIZE);
        assert_eq!(message.sole_question().unwrap().qname().to_string(), "www.gullrock.example");
    }

    #[test]
    fn only_the_answer_to_our_question_is_taken() {
        let (id, bytes) = query(&question()).unwrap();
        assert!(matches!(decode(&answer_to(&bytes, |_| ()), id, &question()), Decoded::Reply(_)));
        assert!(matches!(decode(&answer_to(&bytes, |_| ()), id ^ 1, &question()), Decoded::NotOurs));
        assert!(matches!(decode(&bytes, id, &question()), Decoded::NotOurs), "a query is no answer");
        let other_name = answer_to(&bytes, |answer| answer[13] = b'x');
        assert!(matches!(decode(&other_name, id, &question()), Decoded::NotOurs));
        assert!(matches!(decode(&answer_to(&bytes, |a| a[2] |= 0x02), id, &question()), Decoded::Truncated));
        assert!(matches!(decode(&[0; 5], id, &question()), Decoded::Garbled(_)));
    }

    #[test]
    fn a_name_that_points_at_itself_is_no_answer() {
        let (id, bytes) = query(&Question { transport: Transport::PlainUdp, ..question() }).unwrap();
        let end = bytes.len() as u16;
        let looping = answer_to(&bytes, |answer| {
            // One answer record whose owner is a compression pointer to its own place.
            answer[6..8].copy_from_slice(&1_u16.to_be_bytes());
            answer[10..12].copy_from_slice(&0_u16.to_be_bytes());
            answer.extend((0xc000 | end).to_be_bytes());
            answer.extend([0, 1, 0, 1, 0, 0, 0, 60, 0, 4, 192, 0, 2, 1]);
        });
        assert!(matches!(decode(&looping, id, &question()), Decoded::Garbled(_)));
    }

    #[test]
    fn spoilt_bytes_never_panic() {
        let (id, bytes) = query(&question()).unwrap();
        for at in 2..bytes.len() {
            for value in [0x00, 0x3f, 0xc0, 0xff] {
                let spoilt = answer_to(&bytes, |answer| answer[at] = value);
                let _ = decode(&spoilt, id, &question());
                let _ = decode(&spoilt[..at], id, &question());
            }
        }
    }
}
