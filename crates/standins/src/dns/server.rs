//! An authoritative server over UDP and TCP, answering from zones that can be exchanged while it runs.

use std::net::SocketAddr;
use std::sync::{Arc, RwLock};

use bytes::Bytes;
use domain::base::iana::Rcode;
use domain::base::name::ToName;
use domain::base::{Message, MessageBuilder};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, UdpSocket};

use super::zone_data::{ZoneData, ZoneName};

/// The zones of a server.
pub(crate) type Zones = Arc<RwLock<Vec<ZoneData>>>;

/// Serves the zones at the address until the runtime ends.
pub(crate) async fn serve(address: SocketAddr, zones: Zones) -> std::io::Result<()> {
    let udp = Arc::new(UdpSocket::bind(address).await?);
    let tcp = TcpListener::bind(address).await?;
    let over_udp = Arc::clone(&zones);
    tokio::spawn(async move {
        let mut buffer = vec![0; 4096];
        while let Ok((length, from)) = udp.recv_from(&mut buffer).await {
            if let Some(answer) = answer(&buffer[..length], &over_udp) {
                let answer = if answer.len() > 1232 { truncated(&buffer[..length]) } else { Some(answer) };
                if let Some(answer) = answer {
                    let _ = udp.send_to(&answer, from).await;
                }
            }
        }
    });
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = tcp.accept().await {
            let zones = Arc::clone(&zones);
            tokio::spawn(async move {
                while let Ok(length) = stream.read_u16().await {
                    let mut query = vec![0; length.into()];
                    if stream.read_exact(&mut query).await.is_err() {
                        return;
                    }
                    let Some(answer) = answer(&query, &zones) else { return };
                    let mut framed = (answer.len() as u16).to_be_bytes().to_vec();
                    framed.extend(answer);
                    if stream.write_all(&framed).await.is_err() {
                        return;
                    }
                }
            });
        }
    });
    Ok(())
}

fn answer(query: &[u8], zones: &Zones) -> Option<Vec<u8>> {
    let request = Message::from_octets(Bytes::copy_from_slice(query)).ok()?;
    if request.header().qr() {
        return None;
    }
    let question = request.sole_question().ok()?;
    let name: ZoneName = question.qname().to_name();
    let zones = zones.read().ok()?;
    // The longest matching zone: a server may hold parent and child.
    let zone = zones.iter().filter(|zone| name.ends_with(&zone.origin)).max_by_key(|zone| zone.origin.label_count());
    Some(match zone {
        Some(zone) => zone.answer(&request, &name, question.qtype()),
        None => MessageBuilder::new_vec().start_answer(&request, Rcode::REFUSED).ok()?.finish(),
    })
}

fn truncated(query: &[u8]) -> Option<Vec<u8>> {
    let request = Message::from_octets(query).ok()?;
    let mut answer = MessageBuilder::new_vec().start_answer(&request, Rcode::NOERROR).ok()?;
    answer.header_mut().set_tc(true);
    Some(answer.finish())
}
