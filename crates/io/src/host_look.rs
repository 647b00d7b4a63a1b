//! Asks registry, zone and server about each nameserver of a set, each directly. What it means is for
//! `core/src/nameserver/sides.rs`.

use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, SocketAddr};

use brightharbor_core::address::AddressKind;
use brightharbor_core::delegation::{Outcome, Picture, Question, Reply, ServerState, domain_of, is_in_place, state_of};
use brightharbor_core::harbor::{NameserverSet, Settings};
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::nameserver::{Answering, HostSeen, Said};
use brightharbor_core::zone::RecordType;
use futures_util::future::join_all;

use crate::dns::{Walker, ask};
use crate::survey::brief;

/// Servers of the zone above that are asked for a name each.
const MOST_SERVERS: usize = 26;

/// Looks at every nameserver of a set. `zones`: some that are delegated to it, or are to be.
pub async fn look_at_set(
    settings: &Settings,
    walker: &Walker,
    set: &NameserverSet,
    zones: &[Hostname],
) -> Vec<HostSeen> {
    let mut domains: BTreeMap<DnsName, Option<Hostname>> = BTreeMap::new();
    for name in &set.nameservers {
        let place = place(settings, walker, name).await;
        domains.insert(name.clone(), place);
    }
    let mut pictures: BTreeMap<Hostname, Picture> = BTreeMap::new();
    let own = domains.values().flatten().cloned();
    let all: BTreeSet<Hostname> = own.chain(zones.iter().cloned()).collect();
    for domain in all {
        let inside: Vec<Hostname> = set.nameservers.iter().filter_map(hostname).collect();
        let inside: Vec<Hostname> =
            inside.into_iter().filter(|name| name.dns_name().is_within(&domain.dns_name())).collect();
        let picture = walker.walk(brief(settings, &domain, &inside)).await.picture;
        pictures.insert(domain, picture);
    }
    let looks = set.nameservers.iter().map(|name| {
        let domain = domains.get(name).and_then(Option::as_ref);
        look_at_host(settings, set, name, domain, &pictures, zones)
    });
    join_all(looks).await
}

fn hostname(name: &DnsName) -> Option<Hostname> {
    Hostname::parse(&name.bare()).ok()
}

/// The domain that a nameserver's name lies in.
async fn place(settings: &Settings, walker: &Walker, name: &DnsName) -> Option<Hostname> {
    let typed = hostname(name)?;
    domain_of(&typed, &walker.walk(brief(settings, &typed, &[])).await.picture)
}

async fn look_at_host(
    settings: &Settings,
    set: &NameserverSet,
    name: &DnsName,
    domain: Option<&Hostname>,
    pictures: &BTreeMap<Hostname, Picture>,
    zones: &[Hostname],
) -> HostSeen {
    let mut wanted = set.addresses.get(name).cloned().unwrap_or_default();
    wanted.sort();
    wanted.dedup();
    let own = domain.and_then(|domain| pictures.get(domain));
    let naming: Vec<&Picture> = pictures.values().filter(|picture| picture.delegated_names().contains(name)).collect();
    let above = own.map(|picture| &picture.parent_servers[..]).unwrap_or_default().iter().take(MOST_SERVERS);
    let registry = join_all(above.map(|server| registry_says(*server, name, &naming))).await;
    let zone = own.map(|picture| zone_says(picture, name)).unwrap_or_default();
    let mut addresses: BTreeSet<IpAddr> = wanted.iter().copied().collect();
    addresses.extend(registry.iter().chain(&zone).flat_map(|said| said.addresses.clone()));
    let about: Vec<DnsName> = match zones {
        [] => domain.iter().map(|domain| domain.dns_name()).collect(),
        zones => zones.iter().map(Hostname::dns_name).collect(),
    };
    let roots = settings.internet.roots();
    let asked = addresses.into_iter().flat_map(|address| {
        let server = SocketAddr::new(address, settings.internet.dns_port());
        let roots = &roots;
        about.iter().map(move |zone| answering(server, zone, roots))
    });
    let servers = join_all(asked).await;
    HostSeen {
        needs_glue: naming.iter().any(|picture| name.is_within(&picture.domain)),
        is_named: !naming.is_empty(),
        domain: domain.map(Hostname::dns_name),
        name: name.clone(),
        wanted,
        registry,
        zone,
        servers,
    }
}

/// The addresses that a server of the registry gives: with the delegation of a domain, or when it is asked for the name.
async fn registry_says(server: SocketAddr, name: &DnsName, naming: &[&Picture]) -> Said {
    let of_server = naming.iter().flat_map(|picture| &picture.parent).filter(|answer| answer.server == server);
    let glue = of_server.flat_map(|answer| &answer.glue).filter(|record| record.owner == *name);
    let mut said = Said { server, addresses: glue.filter_map(|record| record.data.address()).collect(), failed: None };
    if !said.addresses.is_empty() {
        return said;
    }
    let questions = [RecordType::A, RecordType::AAAA].map(|kind| Question::authoritative(server, name, kind));
    for observation in join_all(questions.iter().map(ask)).await {
        match &observation.outcome {
            Outcome::Reply(reply) if matches!(reply.rcode, Reply::NOERROR | Reply::NXDOMAIN) => {
                let records = reply.answer.iter().chain(&reply.additional).filter(|record| record.owner == *name);
                said.addresses.extend(records.filter_map(|record| record.data.address()));
            }
            other => said.failed = Some(other.in_words()),
        }
    }
    said
}

/// What each server of its own domain gives for the name.
fn zone_says(picture: &Picture, name: &DnsName) -> Vec<Said> {
    let said = |server: &brightharbor_core::delegation::ServerSeen| {
        let answer = server.hosts.iter().find(|answer| answer.hostname == *name)?;
        let addresses = answer.addresses.iter().map(|one| one.address).collect();
        Some(Said { server: server.address, addresses, failed: None })
    };
    picture.authoritative_servers().filter_map(|(_, server)| said(server)).collect()
}

async fn answering(server: SocketAddr, zone: &DnsName, roots: &[SocketAddr]) -> Answering {
    let state = if is_in_place(server.ip(), roots) {
        let soa = ask(&Question::authoritative(server, zone, RecordType::SOA)).await.outcome;
        state_of(&soa, &soa, zone)
    } else {
        ServerState::OutOfPlace { kind: AddressKind::of(server.ip()).words().into() }
    };
    Answering { server, zone: zone.clone(), state }
}
