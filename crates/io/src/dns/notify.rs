//! Tells a secondary server that a zone has changed (NOTIFY, RFC 1996): it asks the primary itself then.

use std::net::SocketAddr;
use std::time::Duration;

use brightharbor_core::name::DnsName;
use domain::base::iana::{Opcode, Rtype};
use domain::base::{Message, MessageBuilder};
use domain::tsig::ClientTransaction;
use tokio::net::UdpSocket;
use tokio::time::timeout;

use super::codec::to_wire;
use super::key_file::TransactionKey;
use super::stream::{RequestError, RequestProblem, rcode_word, signing_time, unsound};

const TRIES: [Duration; 3] = [Duration::from_millis(500), Duration::from_secs(1), Duration::from_secs(2)];

/// Sends the notification until the server confirms it.
pub async fn notify(server: SocketAddr, zone: &DnsName, key: Option<&TransactionKey>) -> Result<(), RequestError> {
    let failed = |problem: RequestProblem| RequestError { server, problem };
    let garbled = |problem: String| failed(RequestProblem::Garbled(problem));
    let mut message = MessageBuilder::new_vec();
    message.header_mut().set_random_id();
    message.header_mut().set_opcode(Opcode::NOTIFY);
    message.header_mut().set_aa(true);
    let id = message.header().id();
    let mut message = message.question();
    message.push((to_wire(zone).map_err(garbled)?, Rtype::SOA)).map_err(|error| garbled(error.to_string()))?;
    let mut message = message.additional();
    let transaction = match key {
        Some(key) => {
            let signed = ClientTransaction::request(key.key.clone(), &mut message, signing_time());
            Some(signed.map_err(|error| garbled(error.to_string()))?)
        }
        None => None,
    };
    let bytes = message.finish();
    let local: SocketAddr = if server.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0_u16; 8], 0).into() };
    let unreachable = |error: std::io::Error| failed(RequestProblem::Unreachable(error.to_string()));
    let socket = UdpSocket::bind(local).await.map_err(unreachable)?;
    socket.connect(server).await.map_err(unreachable)?;
    let mut buffer = vec![0; 4096];
    for patience in TRIES {
        socket.send(&bytes).await.map_err(unreachable)?;
        let length = match timeout(patience, socket.recv(&mut buffer)).await {
            Err(_) => continue,
            Ok(received) => received.map_err(unreachable)?,
        };
        let Ok(mut answer) = Message::from_octets(buffer[..length].to_vec()) else { continue };
        let header = answer.header();
        if header.id() != id || !header.qr() || header.opcode() != Opcode::NOTIFY {
            continue;
        }
        let rcode = header.rcode().to_int();
        if let (Some(transaction), Some(key)) = (&transaction, key)
            && let Err(error) = transaction.answer(&mut answer, signing_time())
        {
            return Err(failed(unsound(error, &key.name(), rcode)));
        }
        return if rcode == 0 { Ok(()) } else { Err(failed(RequestProblem::Answered(rcode_word(rcode)))) };
    }
    Err(failed(RequestProblem::Silent))
}
