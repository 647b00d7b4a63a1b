//! Asks one question of one server: UDP with retries, TCP where the answer was truncated or TCP was asked for.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::{Duration, Instant};

use brightharbor_core::delegation::{Observation, Outcome, Question, Transport};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpStream, UdpSocket};
use tokio::time::timeout;

use super::codec::{Decoded, decode, query};
use super::silence::SILENCE;
use crate::clock;

/// How long each UDP try waits: a lost packet is asked for again, a slow server gets its time at last.
const UDP_TRIES: [Duration; 3] = [Duration::from_millis(700), Duration::from_millis(1200), Duration::from_millis(2000)];
const TCP_TIME: Duration = Duration::from_secs(3);
/// A resolver may have a long way to go itself.
const RESOLVER_TRIES: [Duration; 2] = [Duration::from_secs(2), Duration::from_secs(3)];

/// Asks, and tells what came.
pub async fn ask(question: &Question) -> Observation {
    let started = Instant::now();
    let tcp = question.transport == Transport::Tcp;
    let outcome = match question.transport {
        _ if SILENCE.is_known(question.server, tcp) => Outcome::Silent,
        Transport::Udp | Transport::PlainUdp => over_udp(question).await,
        Transport::Tcp => over_tcp(question).await,
    };
    SILENCE.note(question.server, tcp, outcome == Outcome::Silent);
    let elapsed_ms = started.elapsed().as_millis().min(u128::from(u32::MAX)) as u32;
    Observation { question: question.clone(), outcome, at: clock::now(), elapsed_ms }
}

async fn over_udp(question: &Question) -> Outcome {
    let tries: &[Duration] = if question.recursion_desired { &RESOLVER_TRIES } else { &UDP_TRIES };
    let mut refused = None;
    for patience in tries {
        match timeout(*patience, one_datagram(question)).await {
            Err(_) => {}
            Ok(Ok(Decoded::Reply(reply))) => return Outcome::Reply(reply),
            Ok(Ok(Decoded::Truncated)) => return over_tcp(question).await,
            Ok(Ok(Decoded::Garbled(reason))) => return Outcome::Garbled(reason),
            Ok(Ok(Decoded::NotOurs)) => {}
            Ok(Err(error)) => match from_io(&error) {
                Outcome::NoRoute => return Outcome::NoRoute,
                // A port that was closed a moment ago may belong to a server that is starting: one more try.
                _ if refused.is_some() => return from_io(&error),
                _ => {
                    refused = Some(error);
                    tokio::time::sleep(Duration::from_millis(100)).await;
                }
            },
        }
    }
    refused.map_or(Outcome::Silent, |error| from_io(&error))
}

async fn one_datagram(question: &Question) -> io::Result<Decoded> {
    let (id, bytes) = query(question).map_err(io::Error::other)?;
    let local: IpAddr =
        if question.server.is_ipv4() { Ipv4Addr::UNSPECIFIED.into() } else { Ipv6Addr::UNSPECIFIED.into() };
    let socket = UdpSocket::bind(SocketAddr::new(local, 0)).await?;
    socket.connect(question.server).await?;
    socket.send(&bytes).await?;
    let mut buffer = vec![0; 4096];
    loop {
        let length = socket.recv(&mut buffer).await?;
        match decode(&buffer[..length], id, question) {
            Decoded::NotOurs => continue,
            decoded => return Ok(decoded),
        }
    }
}

async fn over_tcp(question: &Question) -> Outcome {
    match timeout(TCP_TIME, one_stream(question)).await {
        Err(_) => Outcome::Silent,
        Ok(Ok(Decoded::Reply(reply))) => Outcome::Reply(reply),
        Ok(Ok(Decoded::Garbled(reason))) => Outcome::Garbled(reason),
        Ok(Ok(_)) => Outcome::Garbled("an answer over TCP that is truncated or for another question".into()),
        Ok(Err(error)) => from_io(&error),
    }
}

async fn one_stream(question: &Question) -> io::Result<Decoded> {
    let (id, bytes) = query(question).map_err(io::Error::other)?;
    let mut stream = TcpStream::connect(question.server).await?;
    let mut framed = (bytes.len() as u16).to_be_bytes().to_vec();
    framed.extend(bytes);
    stream.write_all(&framed).await?;
    let length = stream.read_u16().await?;
    let mut answer = vec![0; length.into()];
    stream.read_exact(&mut answer).await?;
    Ok(decode(&answer, id, question))
}

fn from_io(error: &io::Error) -> Outcome {
    match error.kind() {
        io::ErrorKind::NetworkUnreachable | io::ErrorKind::AddrNotAvailable | io::ErrorKind::Unsupported => {
            Outcome::NoRoute
        }
        io::ErrorKind::ConnectionRefused => Outcome::Unreachable("connection refused".into()),
        _ => Outcome::Unreachable(error.to_string()),
    }
}

#[cfg(test)]
#[path = "client_tests.rs"]
mod tests;
