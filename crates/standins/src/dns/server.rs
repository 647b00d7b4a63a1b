//! An authoritative server over UDP and TCP, answering from zones that can be exchanged while it runs.

use std::net::SocketAddr;
use std::sync::{Arc, RwLock};

use bytes::Bytes;
use domain::base::iana::{Rcode, Rtype};
use domain::base::name::ToName;
use domain::base::{Message, MessageBuilder};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, UdpSocket};

use super::zone_data::{self, ZoneData, ZoneName};

/// The zones of a server.
pub(crate) type Zones = Arc<RwLock<Vec<ZoneData>>>;

/// How a server differs from a good one; by default in nothing.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Habits {
    pub no_udp: bool,
    pub no_tcp: bool,
    /// Answers FORMERR to questions with EDNS.
    pub no_edns: bool,
    pub silent: bool,
    pub refuses: bool,
    /// Nobody listens at all.
    pub closed: bool,
    /// Answers SERVFAIL.
    pub fails: bool,
    /// Says of every name, with authority, that there is none.
    pub denies: bool,
    /// Holds the zone above alone, with something at the domain's name in it.
    pub zone_above: bool,
    /// Answers without authority.
    pub lame: bool,
    /// Looks up everything for everybody.
    pub recursion: bool,
    /// Gives whole zones away.
    pub transfer: bool,
    /// Sends bytes that are no answer.
    pub garbled: bool,
}

/// Serves the zones at the address until the runtime ends.
pub(crate) async fn serve(address: SocketAddr, zones: Zones) -> std::io::Result<()> {
    serve_with(address, zones, Habits::default()).await
}

/// The same with habits of its own.
pub(crate) async fn serve_with(address: SocketAddr, zones: Zones, habits: Habits) -> std::io::Result<()> {
    let udp = Arc::new(UdpSocket::bind(address).await?);
    let tcp = TcpListener::bind(address).await?;
    let over_udp = Arc::clone(&zones);
    tokio::spawn(async move {
        let mut buffer = vec![0; 4096];
        while let Ok((length, from)) = udp.recv_from(&mut buffer).await {
            if habits.no_udp {
                continue;
            }
            if let Some(answer) = answer(&buffer[..length], &over_udp, habits) {
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
            if habits.no_tcp {
                continue;
            }
            tokio::spawn(async move {
                while let Ok(length) = stream.read_u16().await {
                    let mut query = vec![0; length.into()];
                    if stream.read_exact(&mut query).await.is_err() {
                        return;
                    }
                    let Some(answer) = answer(&query, &zones, habits) else { return };
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

fn answer(query: &[u8], zones: &Zones, habits: Habits) -> Option<Vec<u8>> {
    let request = Message::from_octets(Bytes::copy_from_slice(query)).ok()?;
    if request.header().qr() || habits.silent {
        return None;
    }
    if habits.garbled {
        // The question's own bytes, marked as an answer, and cut in the middle of its name.
        let mut bytes = query[..query.len().min(17)].to_vec();
        bytes[2] |= 0x80;
        return Some(bytes);
    }
    let has_opt = request.opt().is_some();
    let plain = |rcode| {
        let mut answer = MessageBuilder::new_vec().start_answer(&request, rcode).ok()?;
        answer.header_mut().set_aa(false);
        Some(answer.finish())
    };
    if has_opt && habits.no_edns {
        return plain(Rcode::FORMERR);
    }
    let plain = |rcode| plain(rcode).map(|bytes| if has_opt { with_opt(bytes) } else { bytes });
    if habits.refuses || habits.fails {
        return plain(if habits.fails { Rcode::SERVFAIL } else { Rcode::REFUSED });
    }
    if habits.denies {
        let mut answer = MessageBuilder::new_vec().start_answer(&request, Rcode::NXDOMAIN).ok()?;
        answer.header_mut().set_aa(true);
        let bytes = answer.finish();
        return Some(if has_opt { with_opt(bytes) } else { bytes });
    }
    let question = request.sole_question().ok()?;
    let name: ZoneName = question.qname().to_name();
    if habits.zone_above {
        let above = name.parent()?.to_name::<Bytes>();
        let text = format!("{name}. 60 IN TXT here\n@ 60 IN SOA a.{above}. h.{above}. 1 2 3 4 5\n");
        let zone = ZoneData::read(&format!("{above}."), &text).ok()?;
        let bytes = zone.answer(&request, &name, question.qtype());
        return Some(if has_opt { with_opt(bytes) } else { bytes });
    }
    let zones = zones.read().ok()?;
    // The longest matching zone: a server may hold parent and child. A DS record belongs to the parent (RFC 4035
    // section 3.1.4.1).
    let fits =
        |zone: &&ZoneData| name.ends_with(&zone.origin) && (question.qtype() != Rtype::DS || name != zone.origin);
    let zone = zones.iter().filter(fits).max_by_key(|zone| zone.origin.label_count());
    let mut bytes = match (zone, question.qtype()) {
        (Some(zone), Rtype::AXFR) if habits.transfer && name == zone.origin => zone.whole(&request),
        (_, Rtype::AXFR) => return plain(Rcode::REFUSED),
        (_, Rtype::NS) if habits.recursion && name.is_root() => zone_data::root_hint(&request),
        (Some(zone), _) => zone.answer(&request, &name, question.qtype()),
        (None, _) => return plain(Rcode::REFUSED),
    };
    if habits.lame {
        bytes[2] &= !0x04;
        // Without its answer, as a server that has only heard of the zone.
        return plain(Rcode::NOERROR);
    }
    if habits.recursion {
        bytes[3] |= 0x80;
    }
    Some(if has_opt { with_opt(bytes) } else { bytes })
}

/// With an OPT record at the end: root, type 41, size 1232, no extended code, no flags, no data.
fn with_opt(mut bytes: Vec<u8>) -> Vec<u8> {
    bytes.extend([0, 0, 41, 0x04, 0xd0, 0, 0, 0, 0, 0, 0]);
    let count = u16::from_be_bytes([bytes[10], bytes[11]]) + 1;
    bytes[10..12].copy_from_slice(&count.to_be_bytes());
    bytes
}

fn truncated(query: &[u8]) -> Option<Vec<u8>> {
    let request = Message::from_octets(query).ok()?;
    let mut answer = MessageBuilder::new_vec().start_answer(&request, Rcode::NOERROR).ok()?;
    answer.header_mut().set_tc(true);
    Some(answer.finish())
}
