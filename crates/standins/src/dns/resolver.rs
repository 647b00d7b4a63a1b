//! A caching resolver: follows referrals from the root, keeps answers for their TTL and tells the time that is left,
//! so that waiting for caches can be seen. The CA looks names up by the same walk without the cache.

use std::collections::HashMap;
use std::future::Future;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bytes::Bytes;
use domain::base::iana::{Rcode, Rtype};
use domain::base::name::{FlattenInto, ToName};
use domain::base::{Message, MessageBuilder, ParsedName, Ttl};
use domain::rdata::ZoneRecordData;
use tokio::net::UdpSocket;
use tokio::time::timeout;

use crate::family::Family;

use super::zone_data::{ZoneName, ZoneRecord};

/// What came for a name.
#[derive(Debug, Clone)]
pub(crate) struct Found {
    pub rcode: Rcode,
    pub answer: Vec<ZoneRecord>,
    pub authority: Vec<ZoneRecord>,
}

#[derive(Debug)]
pub(crate) struct Resolver {
    root: SocketAddr,
    cache: Mutex<HashMap<(ZoneName, Rtype), (Instant, Found)>>,
}

type Boxed<'a, T> = Pin<Box<dyn Future<Output = T> + Send + 'a>>;

impl Resolver {
    pub fn new(root: SocketAddr) -> Self {
        Self { root, cache: Mutex::new(HashMap::new()) }
    }

    /// The addresses of a name, asked afresh.
    pub async fn addresses(&self, name: &ZoneName) -> Vec<IpAddr> {
        let mut all = Vec::new();
        for rtype in [Rtype::A, Rtype::AAAA] {
            if let Some(found) = self.look_up(name.clone(), rtype, 0).await {
                all.extend(found.answer.iter().filter_map(address));
            }
        }
        all
    }

    /// The texts at a name, or where its aliases lead, asked afresh.
    pub async fn texts(&self, name: &ZoneName) -> Vec<String> {
        let mut name = name.clone();
        for _ in 0..4 {
            let Some(found) = self.look_up(name, Rtype::TXT, 0).await else { return vec![] };
            let texts = found.answer.iter().filter_map(|record| match record.data() {
                ZoneRecordData::Txt(txt) => Some(String::from_utf8_lossy(&txt.text::<Vec<u8>>()).into_owned()),
                _ => None,
            });
            match open_alias(&found, Rtype::TXT) {
                Some(target) => name = target,
                None => return texts.collect(),
            }
        }
        vec![]
    }

    fn look_up(&self, name: ZoneName, rtype: Rtype, depth: usize) -> Boxed<'_, Option<Found>> {
        Box::pin(async move {
            let mut servers = vec![self.root];
            for _ in 0..12 {
                let (message, found) = ask_first(&servers, &name, rtype).await?;
                if message.header().aa() || found.rcode != Rcode::NOERROR {
                    return Some(found);
                }
                servers = self.next_servers(&message, &found, depth).await;
                if servers.is_empty() {
                    return None;
                }
            }
            None
        })
    }

    async fn next_servers(&self, message: &Message<Bytes>, found: &Found, depth: usize) -> Vec<SocketAddr> {
        let port = self.root.port();
        let glue = records(message, 3);
        let mut servers: Vec<SocketAddr> =
            glue.iter().filter_map(address).map(|address| SocketAddr::new(address, port)).collect();
        if servers.is_empty() && depth < 4 {
            for record in &found.authority {
                let ZoneRecordData::Ns(ns) = record.data() else { continue };
                for rtype in [Rtype::A, Rtype::AAAA] {
                    if let Some(found) = self.look_up(ns.nsdname().clone(), rtype, depth + 1).await {
                        servers.extend(found.answer.iter().filter_map(address).map(|ip| SocketAddr::new(ip, port)));
                    }
                }
            }
        }
        servers
    }

    /// Answers a client, from the cache while it holds.
    async fn answer(&self, query: &[u8]) -> Option<Vec<u8>> {
        let request = Message::from_octets(Bytes::copy_from_slice(query)).ok()?;
        let question = request.sole_question().ok()?;
        let name: ZoneName = question.qname().to_name();
        let key = (name.clone(), question.qtype());
        let cached = self.cache.lock().ok()?.get(&key).cloned().filter(|(until, _)| *until > Instant::now());
        let (until, found) = match cached {
            Some(cached) => cached,
            None => {
                let mut found = self.look_up(name, question.qtype(), 0).await;
                // An alias into another zone is followed there.
                for _ in 0..4 {
                    let Some(target) = found.as_ref().and_then(|found| open_alias(found, question.qtype())) else {
                        break;
                    };
                    let Some(further) = self.look_up(target, question.qtype(), 0).await else { break };
                    found = found.map(|before| Found {
                        answer: before.answer.into_iter().chain(further.answer).collect(),
                        ..further
                    });
                }
                let found = found.unwrap_or(Found { rcode: Rcode::SERVFAIL, answer: vec![], authority: vec![] });
                let seconds = lifetime(&found);
                let until = Instant::now() + Duration::from_secs(seconds.into());
                self.cache.lock().ok()?.insert(key, (until, found.clone()));
                (until, found)
            }
        };
        // Rounded up: a client that waits as long as it is told must not come a moment too early.
        let left = until.saturating_duration_since(Instant::now()).as_millis().div_ceil(1000) as u32;
        let mut answer = MessageBuilder::new_vec().start_answer(&request, found.rcode).ok()?;
        answer.header_mut().set_ra(true);
        let aged = |record: &ZoneRecord| {
            let mut record = record.clone();
            record.set_ttl(record.ttl().min(Ttl::from_secs(left)));
            record
        };
        found.answer.iter().for_each(|record| answer.push(aged(record)).expect("a vector has room"));
        let mut authority = answer.authority();
        found.authority.iter().for_each(|record| authority.push(aged(record)).expect("a vector has room"));
        Some(authority.finish())
    }
}

/// Serves clients over UDP until the runtime ends.
pub(crate) async fn serve(address: SocketAddr, resolver: Arc<Resolver>) -> std::io::Result<()> {
    let socket = Arc::new(UdpSocket::bind(address).await?);
    tokio::spawn(async move {
        let mut buffer = vec![0; 4096];
        while let Ok((length, from)) = socket.recv_from(&mut buffer).await {
            let (query, socket, resolver) = (buffer[..length].to_vec(), Arc::clone(&socket), Arc::clone(&resolver));
            tokio::spawn(async move {
                if let Some(answer) = resolver.answer(&query).await {
                    let _ = socket.send_to(&answer, from).await;
                }
            });
        }
    });
    Ok(())
}

/// The target of an answer that ends with an alias.
fn open_alias(found: &Found, rtype: Rtype) -> Option<ZoneName> {
    if rtype == Rtype::CNAME || found.answer.iter().any(|record| record.rtype() == rtype) {
        return None;
    }
    found.answer.iter().rev().find_map(|record| match record.data() {
        ZoneRecordData::Cname(alias) => Some(alias.cname().clone()),
        _ => None,
    })
}

/// How long an answer is kept: the least TTL; for "no such", the SOA's own figure (RFC 2308 section 5).
fn lifetime(found: &Found) -> u32 {
    let negative = found.authority.iter().find_map(|record| match record.data() {
        ZoneRecordData::Soa(soa) => Some(soa.minimum().as_secs().min(record.ttl().as_secs())),
        _ => None,
    });
    let positive = found.answer.iter().map(|record| record.ttl().as_secs()).min();
    positive.or(negative).unwrap_or(1)
}

async fn ask_first(servers: &[SocketAddr], name: &ZoneName, rtype: Rtype) -> Option<(Message<Bytes>, Found)> {
    for server in servers {
        let asked = timeout(Duration::from_millis(800), ask(*server, name, rtype)).await;
        if let Ok(Some(message)) = asked {
            let (answer, authority) = (records(&message, 1), records(&message, 2));
            let found = Found { rcode: message.header().rcode(), answer, authority };
            return Some((message, found));
        }
    }
    None
}

async fn ask(server: SocketAddr, name: &ZoneName, rtype: Rtype) -> Option<Message<Bytes>> {
    let mut query = MessageBuilder::new_vec();
    query.header_mut().set_random_id();
    let id = query.header().id();
    let mut query = query.question();
    query.push((name, rtype)).ok()?;
    let socket = UdpSocket::bind(Family::of_this_process().any()).await.ok()?;
    socket.connect(server).await.ok()?;
    socket.send(&query.finish()).await.ok()?;
    let mut buffer = vec![0; 4096];
    let length = socket.recv(&mut buffer).await.ok()?;
    buffer.truncate(length);
    Message::from_octets(Bytes::from(buffer)).ok().filter(|message| message.header().id() == id)
}

/// The records of section 1 (answer), 2 (authority) or 3 (additional).
fn records(message: &Message<Bytes>, section: u8) -> Vec<ZoneRecord> {
    let section = match section {
        1 => message.answer(),
        2 => message.authority(),
        _ => message.additional(),
    };
    let Ok(section) = section else { return vec![] };
    section
        .limit_to::<ZoneRecordData<Bytes, ParsedName<Bytes>>>()
        .filter_map(Result::ok)
        .map(FlattenInto::flatten_into)
        .collect()
}

fn address(record: &ZoneRecord) -> Option<IpAddr> {
    match record.data() {
        ZoneRecordData::A(a) => Some(a.addr().into()),
        ZoneRecordData::Aaaa(aaaa) => Some(aaaa.addr().into()),
        _ => None,
    }
}
