//! Many questions over few UDP sockets: answers find their question by server, id and name. What stays unanswered is
//! asked again by `client`, over a socket of its own.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use brightharbor_core::delegation::{Outcome, Question};
use tokio::net::UdpSocket;
use tokio::sync::oneshot;
use tokio::task::JoinHandle;
use tokio::time::timeout;

use super::Table;
use super::codec::{Decoded, decode, query};

/// Several, so that an answer cannot be guessed by its port (RFC 5452 section 9.2).
const SOCKETS: usize = 8;
const FIRST_TRY: Duration = Duration::from_millis(900);

/// What came of the first try.
pub(super) enum FirstTry {
    Outcome(Outcome),
    Truncated,
    /// Nothing came, or it could not be sent: the client asks again, and finds out why.
    Nothing,
}

type Waiting = Arc<Mutex<Table<(SocketAddr, u16), (Question, oneshot::Sender<Decoded>)>>>;

pub(super) struct Datagrams {
    v4: Vec<Shared>,
    v6: Vec<Shared>,
}

struct Shared {
    socket: Arc<UdpSocket>,
    waiting: Waiting,
    /// Reads what comes, as long as the socket is held.
    receiver: JoinHandle<()>,
}

impl Drop for Shared {
    fn drop(&mut self) {
        self.receiver.abort();
    }
}

impl Datagrams {
    pub async fn open() -> Self {
        let (mut v4, mut v6) = (Vec::new(), Vec::new());
        for _ in 0..SOCKETS {
            v4.extend(Shared::open(Ipv4Addr::UNSPECIFIED.into()).await);
            v6.extend(Shared::open(Ipv6Addr::UNSPECIFIED.into()).await);
        }
        Self { v4, v6 }
    }

    /// Asks once.
    pub async fn ask(&self, question: &Question) -> FirstTry {
        let Ok((id, bytes)) = query(question) else { return FirstTry::Nothing };
        let family = if question.server.is_ipv4() { &self.v4 } else { &self.v6 };
        let Some(shared) = family.get(usize::from(id) % family.len().max(1)) else { return FirstTry::Nothing };
        let key = (question.server, id);
        let (sender, receiver) = oneshot::channel();
        {
            let Ok(mut waiting) = shared.waiting.lock() else { return FirstTry::Nothing };
            // Another question to that server has this id on this socket: the client asks with another.
            if waiting.contains_key(&key) {
                return FirstTry::Nothing;
            }
            waiting.insert(key, (question.clone(), sender));
        }
        let sent = shared.socket.send_to(&bytes, question.server).await;
        let decoded = match sent {
            Ok(_) => timeout(FIRST_TRY, receiver).await.ok().and_then(Result::ok),
            Err(_) => None,
        };
        match decoded {
            Some(Decoded::Reply(reply)) => FirstTry::Outcome(Outcome::Reply(reply)),
            Some(Decoded::Truncated) => FirstTry::Truncated,
            Some(Decoded::Garbled(reason)) => FirstTry::Outcome(Outcome::Garbled(reason)),
            Some(Decoded::NotOurs) | None => {
                if let Ok(mut waiting) = shared.waiting.lock() {
                    waiting.remove(&key);
                }
                FirstTry::Nothing
            }
        }
    }
}

impl Shared {
    async fn open(local: IpAddr) -> Option<Self> {
        let socket = Arc::new(UdpSocket::bind(SocketAddr::new(local, 0)).await.ok()?);
        let waiting = Waiting::default();
        let receiver = tokio::spawn(receive(Arc::clone(&socket), Arc::clone(&waiting)));
        Some(Self { socket, waiting, receiver })
    }
}

async fn receive(socket: Arc<UdpSocket>, waiting: Waiting) {
    let mut buffer = vec![0; 4096];
    while socket.readable().await.is_ok() {
        loop {
            match socket.try_recv_from(&mut buffer) {
                Ok((length, from)) => take(&buffer[..length], from, &waiting),
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => break,
                // An error of an earlier datagram (ICMP) is reported here; its question runs out of time.
                Err(_) => {}
            }
        }
    }
}

/// Hands an answer to whoever waits for it. One for another question leaves the question waiting: it may be forged.
fn take(bytes: &[u8], from: SocketAddr, waiting: &Waiting) {
    let Some(id) = bytes.get(..2).map(|id| u16::from_be_bytes([id[0], id[1]])) else { return };
    let Ok(mut waiting) = waiting.lock() else { return };
    let Some((question, _)) = waiting.get(&(from, id)) else { return };
    match decode(bytes, id, question) {
        Decoded::NotOurs => {}
        decoded => {
            if let Some((_, sender)) = waiting.remove(&(from, id)) {
                let _ = sender.send(decoded);
            }
        }
    }
}
