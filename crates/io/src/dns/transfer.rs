//! Reads a whole zone from its primary server by AXFR (RFC 5936), signed where a key is given. Bounded in size.

use std::net::SocketAddr;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Record, RecordType};
use domain::base::MessageBuilder;
use domain::base::iana::Rtype;
use domain::tsig::ClientSequence;

use super::codec::{read_answer, to_wire};
use super::key_file::TransactionKey;
use super::stream::{RequestError, RequestProblem, Stream, rcode_word, signing_time, unsound};

const MOST_BYTES: usize = 512 << 20;

/// All records of the zone, the start of authority first and once.
pub async fn transfer(
    server: SocketAddr,
    zone: &DnsName,
    key: Option<&TransactionKey>,
) -> Result<Vec<Record>, RequestError> {
    let mut stream = Stream::open(server).await?;
    let garbled = |problem: String| RequestError { server, problem: RequestProblem::Garbled(problem) };
    let mut message = MessageBuilder::new_vec();
    message.header_mut().set_random_id();
    let id = message.header().id();
    let mut message = message.question();
    message.push((to_wire(zone).map_err(garbled)?, Rtype::AXFR)).map_err(|error| garbled(error.to_string()))?;
    let mut message = message.additional();
    let mut sequence = match key {
        Some(key) => {
            let signed = ClientSequence::request(key.key.clone(), &mut message, signing_time());
            Some(signed.map_err(|error| garbled(error.to_string()))?)
        }
        None => None,
    };
    stream.send(&message.finish()).await?;

    let mut records: Vec<Record> = Vec::new();
    let mut bytes = 0;
    loop {
        let mut answer = stream.receive().await?;
        bytes += answer.as_slice().len();
        if bytes > MOST_BYTES {
            return Err(stream.failed(RequestProblem::TooMuch(format!("{} MiB for one zone", MOST_BYTES >> 20))));
        }
        let header = answer.header();
        if header.id() != id || !header.qr() {
            return Err(garbled("an answer to another request".into()));
        }
        if let (Some(sequence), Some(key)) = (&mut sequence, key) {
            sequence
                .answer(&mut answer, signing_time())
                .map_err(|error| stream.failed(unsound(error, &key.name(), header.rcode().to_int())))?;
        }
        if header.rcode().to_int() != 0 {
            return Err(stream.failed(RequestProblem::Answered(rcode_word(header.rcode().to_int()))));
        }
        let part = read_answer(&answer).map_err(garbled)?;
        if part.is_empty() {
            return Err(garbled("a message without records".into()));
        }
        for record in part {
            let is_soa = record.record_type() == RecordType::SOA;
            match records.first() {
                None if is_soa && record.owner == *zone => records.push(record),
                None => return Err(garbled("a transfer that does not begin with the zone's SOA".into())),
                Some(first) if is_soa && record.owner == *zone => {
                    if *first != record {
                        return Err(garbled("a transfer that ends with another SOA than it began with".into()));
                    }
                    if let (Some(sequence), Some(key)) = (sequence, key) {
                        sequence.done().map_err(|error| stream.failed(unsound(error, &key.name(), 0)))?;
                    }
                    return Ok(records);
                }
                Some(_) => records.push(record),
            }
        }
    }
}
