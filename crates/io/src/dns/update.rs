//! Sends an UPDATE to a primary server (RFC 2136), signed (RFC 8945), over TCP; and asks whether it takes any.

use std::net::SocketAddr;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Record, Requirement, Update, UpdateStep};
use domain::base::iana::{Class, Opcode, Rtype};
use domain::base::name::Name;
use domain::base::{MessageBuilder, Ttl, UnknownRecordData};
use domain::tsig::ClientTransaction;

use super::codec::to_wire;
use super::key_file::TransactionKey;
use super::stream::{RequestError, RequestProblem, Stream, rcode_word, signing_time, unsound};

/// Has the server do the whole update, or nothing.
pub async fn send_update(server: SocketAddr, update: &Update, key: &TransactionKey) -> Result<(), RequestError> {
    match exchange(server, update, key).await? {
        0 => Ok(()),
        // A requirement that does not hold: YXDOMAIN, YXRRSET, NXRRSET, NXDOMAIN (section 3.2.5).
        3 | 6 | 7 | 8 => Err(RequestError { server, problem: RequestProblem::ChangedMeanwhile }),
        rcode => Err(RequestError { server, problem: RequestProblem::Answered(rcode_word(rcode)) }),
    }
}

/// Whether the server takes updates of the zone with this key: asked with an update that changes nothing.
pub async fn takes_updates(server: SocketAddr, zone: &DnsName, key: &TransactionKey) -> Result<bool, RequestError> {
    let nothing = Update { zone: zone.clone(), requires: vec![], removed: vec![], added: vec![] };
    Ok(exchange(server, &nothing, key).await? == 0)
}

async fn exchange(server: SocketAddr, update: &Update, key: &TransactionKey) -> Result<u8, RequestError> {
    let failed = |problem: RequestProblem| RequestError { server, problem };
    let unwritable = |problem: String| failed(RequestProblem::Garbled(problem));
    let mut message = MessageBuilder::new_vec();
    message.header_mut().set_random_id();
    message.header_mut().set_opcode(Opcode::UPDATE);
    let id = message.header().id();
    let mut zone_section = message.question();
    let zone = to_wire(&update.zone).map_err(unwritable)?;
    zone_section.push((zone, Rtype::SOA)).map_err(|error| unwritable(error.to_string()))?;
    let mut requirements = zone_section.answer();
    for line in update.requires.iter().flat_map(requirement) {
        requirements.push(line.compose().map_err(unwritable)?).map_err(|error| unwritable(error.to_string()))?;
    }
    let mut changes = requirements.authority();
    for step in update.steps() {
        let line = match step {
            UpdateStep::Add(record) => Line::of(record, Class::IN, record.ttl),
            UpdateStep::Remove(record) => Line::of(record, Class::NONE, 0),
        };
        changes.push(line.compose().map_err(unwritable)?).map_err(|error| unwritable(error.to_string()))?;
    }
    let mut message = changes.additional();
    let transaction = ClientTransaction::request(key.key.clone(), &mut message, signing_time())
        .map_err(|error| unwritable(error.to_string()))?;
    let mut stream = Stream::open(server).await?;
    stream.send(&message.finish()).await?;
    let mut answer = stream.receive().await?;
    let header = answer.header();
    if header.id() != id || !header.qr() || header.opcode() != Opcode::UPDATE {
        return Err(unwritable("an answer to another request".into()));
    }
    let rcode = header.rcode().to_int();
    match transaction.answer(&mut answer, signing_time()) {
        Ok(()) => Ok(rcode),
        Err(error) => Err(failed(unsound(error, &key.name(), rcode))),
    }
}

/// A line of the message: for a requirement and a removal class, TTL and data have meanings of their own.
struct Line<'a> {
    owner: &'a DnsName,
    rtype: Rtype,
    class: Class,
    ttl: u32,
    data: Vec<u8>,
}

impl<'a> Line<'a> {
    fn of(record: &'a Record, class: Class, ttl: u32) -> Self {
        let rtype = Rtype::from_int(record.record_type().0);
        Self { owner: &record.owner, rtype, class, ttl, data: record.data.to_wire() }
    }

    #[allow(clippy::type_complexity)]
    fn compose(self) -> Result<(Name<Vec<u8>>, Class, Ttl, UnknownRecordData<Vec<u8>>), String> {
        let data = UnknownRecordData::from_octets(self.rtype, self.data).map_err(|error| error.to_string())?;
        Ok((to_wire(self.owner)?, self.class, Ttl::from_secs(self.ttl), data))
    }
}

fn requirement(requirement: &Requirement) -> Vec<Line<'_>> {
    let empty = |owner, rtype, class| vec![Line { owner, rtype, class, ttl: 0, data: vec![] }];
    match requirement {
        Requirement::Exactly(records) => records.iter().map(|record| Line::of(record, Class::IN, 0)).collect(),
        Requirement::NoSet { owner, record_type } => empty(owner, Rtype::from_int(record_type.0), Class::NONE),
        Requirement::NameUnused(owner) => empty(owner, Rtype::ANY, Class::NONE),
    }
}
