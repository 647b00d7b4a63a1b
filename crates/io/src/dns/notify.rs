//! Tells a secondary server that a zone has changed (NOTIFY, RFC 1996): it asks the primary itself then.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Mutex;
use std::time::Duration;

use brightharbor_core::name::DnsName;
use domain::base::iana::{Opcode, Rtype};
use domain::base::{Message, MessageBuilder};
use domain::tsig::ClientTransaction;
use futures_util::{StreamExt, stream};
use tokio::net::UdpSocket;
use tokio::time::timeout;

use super::codec::to_wire;
use super::key_file::TransactionKey;
use super::stream::{RequestError, RequestProblem, rcode_word, signing_time, unsound};

const TRIES: [Duration; 3] = [Duration::from_millis(500), Duration::from_secs(1), Duration::from_secs(2)];

/// One server to be told of one zone.
#[derive(Debug, Clone)]
pub struct Notification {
    pub server: SocketAddr,
    /// The address that it leaves from; as the system chooses where there is none.
    pub from: Option<IpAddr>,
    pub zone: DnsName,
}

/// So many are under way at once.
const SIDE_BY_SIDE: usize = 32;
/// A server that confirms none of so many is not told of more.
const MOST_SILENT: usize = 3;

/// Sends notifications side by side, each signed with the key of its server. Gives what went wrong.
pub async fn notify_all(
    notifications: Vec<Notification>,
    keys: &HashMap<SocketAddr, TransactionKey>,
) -> Vec<(Notification, RequestError)> {
    let silent: Mutex<HashMap<SocketAddr, usize>> = Mutex::new(HashMap::new());
    let told = notifications.into_iter().map(|one| {
        let silent = &silent;
        async move {
            let of_server = |count: fn(usize) -> usize| {
                let mut silent = silent.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
                let entry = silent.entry(one.server).or_default();
                *entry = count(*entry);
                *entry
            };
            if of_server(|count| count) >= MOST_SILENT {
                return Some((one.clone(), RequestError { server: one.server, problem: RequestProblem::Silent }));
            }
            match notify(&one, keys.get(&one.server)).await {
                Ok(()) => {
                    of_server(|_| 0);
                    None
                }
                Err(error) => {
                    if matches!(error.problem, RequestProblem::Silent) {
                        of_server(|count| count + 1);
                    }
                    Some((one, error))
                }
            }
        }
    });
    stream::iter(told).buffer_unordered(SIDE_BY_SIDE).filter_map(async |problem| problem).collect().await
}

/// Sends the notification until the server confirms it.
pub async fn notify(told: &Notification, key: Option<&TransactionKey>) -> Result<(), RequestError> {
    let Notification { server, from, zone } = told;
    let server = *server;
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
    let any: SocketAddr = if server.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0_u16; 8], 0).into() };
    let local = from.map_or(any, |from| SocketAddr::new(from, 0));
    let unreachable = |error: std::io::Error| failed(RequestProblem::Unreachable(error.to_string()));
    let not_from = |error: std::io::Error| {
        let from = from.map(|from| format!(" from {from}")).unwrap_or_default();
        failed(RequestProblem::Unreachable(format!("nothing can be sent{from}: {error}")))
    };
    let socket = UdpSocket::bind(local).await.map_err(not_from)?;
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
