//! What to ask next. A pure function of the brief and of what has been observed: called again after every batch of
//! answers until the picture is whole. Bounded in questions, steps and depth.
//!
//! `walk` goes down from the root; here the parent's and the nameservers' own answers are gathered.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use super::brief::Brief;
use super::host_answer::host_answer;
use super::probe::{probe, reached, sign_of_life, soa_of};
use super::reach::is_in_place;
use super::signed::verified;
use super::walk::{Descent, Walk};
use super::{
    Ds, HostAnswer, NameserverSeen, Observations, Outcome, ParentAnswer, Picture, Probed, Question, Reached,
    Registered, Reply, ServerSeen, ServerState, Transport,
};
use crate::address::AddressKind;
use crate::name::DnsName;
use crate::zone::{Record, RecordData, RecordType};

#[derive(Debug, Clone)]
pub enum Step {
    Ask(Vec<Question>),
    Whole(Box<Picture>),
}

/// No delegation in use comes near this many nameservers; a hostile one might.
const MOST_NAMESERVERS: usize = 26;
const MOST_ADDRESSES: usize = 8;

/// Says what to ask next, or gives the whole picture.
pub fn next_questions(brief: &Brief, seen: &Observations) -> Step {
    let mut walk = Walk::new(brief, seen);
    let picture = look(&mut walk);
    let mut missing = walk.into_missing();
    let left = brief.most_questions.saturating_sub(seen.len());
    missing.truncate(left);
    match picture {
        Some(picture) => Step::Whole(Box::new(picture)),
        None if missing.is_empty() => Step::Whole(Box::new(unknown(brief, seen, "the limit of questions was reached"))),
        None => Step::Ask(missing),
    }
}

fn unknown(brief: &Brief, seen: &Observations, why: &str) -> Picture {
    Picture {
        registered: Registered::Unknown(why.into()),
        questions: seen.len(),
        ..Picture::unasked(brief.domain.clone())
    }
}

fn look(walk: &mut Walk<'_>) -> Option<Picture> {
    let brief = walk.brief;
    let mut picture = unknown(brief, walk.seen, "");
    let (zone, servers) = match walk.descend(&brief.domain)? {
        Descent::Delegated { parent, servers } => (parent, servers),
        // One server may have the change that others do not have yet.
        Descent::NotDelegated { parent, servers } => match any_delegates(walk, &servers)? {
            true => (parent, servers),
            false => {
                picture.parent_zone = parent;
                picture.registered = Registered::No;
                picture.parent_servers = servers;
                return Some(picture);
            }
        },
        Descent::Stuck { at, why } => {
            picture.parent_zone = at;
            picture.registered = Registered::Unknown(why);
            return Some(picture);
        }
    };
    picture.parent_zone = zone;
    picture.registered = Registered::Yes;
    // Ask for everything of one stage before stopping, so that a batch is as large as it can be.
    let parent: Vec<Option<ParentAnswer>> =
        servers.iter().map(|server| parent_answer(walk, &picture.parent_zone, *server)).collect();
    let validates = brief.thorough || brief.validates;
    let ds = if validates { ds_of(walk, &servers) } else { Some(vec![]) };
    let parent_soa = match servers.first().filter(|_| brief.thorough) {
        Some(server) => walk.ask(*server, &picture.parent_zone, RecordType::SOA).map(Some),
        None => Some(None),
    };
    picture.parent_servers = servers;
    picture.parent = parent.into_iter().collect::<Option<_>>()?;
    let mut names: Vec<DnsName> = picture.parent.iter().flat_map(|answer| answer.nameservers.clone()).collect();
    names.sort();
    names.dedup();
    names.truncate(MOST_NAMESERVERS);
    let nameservers: Vec<Option<NameserverSeen>> =
        names.iter().map(|name| nameserver(walk, name, &picture.parent)).collect();
    picture.nameservers = nameservers.into_iter().collect::<Option<_>>()?;
    picture.ds = ds?;
    if validates {
        verified(walk, &mut picture)?;
    }
    picture.parent_soa = parent_soa?.and_then(|outcome| soa_of(outcome, &picture.parent_zone));
    picture.seen_at = walk.seen_at();
    picture.cuts = std::mem::take(&mut walk.cuts);
    picture.questions = walk.seen.len();
    Some(picture)
}

/// Whether one of the servers of the parent delegates the domain.
fn any_delegates(walk: &mut Walk<'_>, servers: &[SocketAddr]) -> Option<bool> {
    let domain = &walk.brief.domain;
    let outcomes: Vec<_> = servers.iter().map(|server| walk.ask(*server, domain, RecordType::NS)).collect();
    let delegates = |outcome: &Outcome| match outcome {
        Outcome::Reply(reply) => delegation_in(reply, domain).is_some(),
        _ => false,
    };
    Some(outcomes.into_iter().collect::<Option<Vec<_>>>()?.into_iter().any(delegates))
}

/// The NS records of the domain: in the authority section, or, where a server holds parent and child, in the answer.
fn delegation_in<'r>(reply: &'r Reply, domain: &DnsName) -> Option<&'r Vec<Record>> {
    let is_ns = |record: &Record| record.owner == *domain && record.record_type() == RecordType::NS;
    [&reply.authority, &reply.answer].into_iter().find(|section| section.iter().any(is_ns))
}

fn parent_answer(walk: &mut Walk<'_>, parent: &DnsName, server: SocketAddr) -> Option<ParentAnswer> {
    let domain = &walk.brief.domain;
    let udp = walk.ask(server, domain, RecordType::NS);
    // About the parent zone itself, so that many domains below it ask once.
    let by_tcp = Question { transport: Transport::Tcp, ..Question::authoritative(server, parent, RecordType::SOA) };
    let (tcp, serial) = match walk.brief.thorough {
        false => (Reached::Unasked, None),
        true => {
            let outcome = walk.ask_by(by_tcp)?;
            (reached(outcome), soa_of(outcome, parent).map(|soa| soa.serial))
        }
    };
    let outcome = udp?;
    let empty = |problem: String| ParentAnswer {
        server,
        nameservers: vec![],
        ttl: 0,
        glue: vec![],
        stray: vec![],
        tcp: tcp.clone(),
        serial,
        problem: Some(problem),
        denies: false,
    };
    let reply = match outcome {
        Outcome::Reply(reply) => reply,
        other => return Some(empty(other.in_words())),
    };
    let Some(section) = delegation_in(reply, domain) else {
        let word = reply.rcode_word();
        let denies = matches!(reply.rcode, Reply::NOERROR | Reply::NXDOMAIN) && reply.authoritative;
        return Some(ParentAnswer { denies, ..empty(format!("has no delegation for the domain ({word})")) });
    };
    let mut nameservers = BTreeSet::new();
    let mut ttl = u32::MAX;
    for record in section.iter().filter(|record| record.owner == *domain) {
        if let RecordData::Ns(name) = &record.data {
            nameservers.insert(name.clone());
            ttl = ttl.min(record.ttl);
        }
    }
    let addresses = reply.additional.iter().filter(|record| record.data.address().is_some()).cloned();
    let (glue, stray) = addresses.partition(|record| nameservers.contains(&record.owner));
    let nameservers = nameservers.into_iter().collect();
    Some(ParentAnswer { server, nameservers, ttl, glue, stray, tcp, serial, problem: None, denies: false })
}

/// The DS records, from the first server of the parent that answers for them with authority.
fn ds_of(walk: &mut Walk<'_>, servers: &[SocketAddr]) -> Option<Vec<Ds>> {
    let domain = &walk.brief.domain;
    let outcomes: Vec<Option<&Outcome>> =
        servers.iter().map(|server| walk.ask(*server, domain, RecordType::DS)).collect();
    for outcome in outcomes.into_iter().collect::<Option<Vec<_>>>()? {
        let Outcome::Reply(reply) = outcome else { continue };
        if reply.authoritative && reply.rcode == Reply::NOERROR {
            let mut ds: Vec<Ds> =
                reply.answer.iter().filter(|record| record.owner == *domain).filter_map(Ds::of).collect();
            ds.sort();
            return Some(ds);
        }
    }
    Some(vec![])
}

fn nameserver(walk: &mut Walk<'_>, name: &DnsName, parent: &[ParentAnswer]) -> Option<NameserverSeen> {
    let mut glue: Vec<IpAddr> = parent
        .iter()
        .flat_map(|answer| &answer.glue)
        .filter(|record| record.owner == *name)
        .filter_map(|record| record.data.address())
        .collect();
    glue.sort();
    glue.dedup();
    let addresses = if name.is_within(&walk.brief.domain) && glue.is_empty() {
        // Nobody can find it: the only servers that know its address are those it names.
        Some(vec![])
    } else {
        walk.addresses_of(name)
    };
    let reachable = addresses.clone().unwrap_or_default();
    let mut all: Vec<IpAddr> = glue.iter().chain(&reachable).copied().collect();
    all.sort();
    all.dedup();
    all.truncate(MOST_ADDRESSES);
    let servers: Vec<Option<ServerSeen>> =
        all.iter().map(|address| server(walk, SocketAddr::new(*address, walk.brief.dns_port))).collect();
    let servers = servers.into_iter().collect::<Option<_>>()?;
    Some(NameserverSeen { name: name.clone(), glue, addresses: addresses?, alias: walk.alias_of(name), servers })
}

fn server(walk: &mut Walk<'_>, address: SocketAddr) -> Option<ServerSeen> {
    let brief = walk.brief;
    if !is_in_place(address.ip(), &brief.roots) {
        let state = ServerState::OutOfPlace { kind: AddressKind::of(address.ip()).words().into() };
        return Some(ServerSeen { address, state, probed: Probed::default(), hosts: vec![] });
    }
    let sign = sign_of_life(walk, address);
    let ns = walk.ask(address, &brief.domain, RecordType::NS);
    let hosts: Vec<Option<HostAnswer>> =
        brief.hostnames.iter().map(|hostname| host_answer(walk, address, hostname)).collect();
    let (sign, ns) = (sign?, ns?);
    let mut probed = sign.probed;
    let state = state_of(sign.outcome, ns, &brief.domain);
    let asked = if brief.thorough && matches!(sign.outcome, Outcome::Reply(_)) {
        probe(walk, address, &mut probed)
    } else {
        Some(())
    };
    if let Outcome::Reply(reply) = ns {
        let of_apex = |record: &&Record| record.owner == brief.domain && record.record_type() == RecordType::NS;
        probed.ns_ttl = reply.answer.iter().filter(of_apex).map(|record| record.ttl).min();
    }
    let hosts = hosts.into_iter().collect::<Option<_>>()?;
    asked?;
    Some(ServerSeen { address, state, probed, hosts })
}

/// What a server is for the domain, by its answers about the start of authority and the nameservers.
pub fn state_of(soa: &Outcome, ns: &Outcome, domain: &DnsName) -> ServerState {
    match soa {
        Outcome::Reply(reply) => server_state(reply, ns, domain),
        Outcome::Silent => ServerState::Silent,
        Outcome::Unreachable(reason) => ServerState::Unreachable { reason: reason.clone() },
        Outcome::NoRoute => ServerState::NoRoute,
        Outcome::Garbled(reason) => ServerState::Garbled { reason: reason.clone() },
    }
}

fn server_state(soa: &Reply, ns: &Outcome, domain: &DnsName) -> ServerState {
    let serial = soa.answer.iter().find_map(|record| match &record.data {
        RecordData::Soa(soa) if record.owner == *domain => Some(soa.serial),
        _ => None,
    });
    match serial {
        Some(serial) if soa.authoritative => {
            let mut nameservers: Vec<DnsName> = match ns {
                Outcome::Reply(reply) => reply
                    .answer
                    .iter()
                    .filter_map(|record| match &record.data {
                        RecordData::Ns(name) if record.owner == *domain => Some(name.clone()),
                        _ => None,
                    })
                    .collect(),
                _ => vec![],
            };
            nameservers.sort();
            ServerState::Authoritative { serial, nameservers }
        }
        _ if soa.authoritative => with_other_authority(soa, domain),
        _ if soa.rcode == Reply::NOERROR || soa.rcode == Reply::NXDOMAIN => ServerState::NotAuthoritative,
        _ => ServerState::Refuses { rcode: soa.rcode_word() },
    }
}

/// An answer with authority, and not with that of the domain's own zone.
fn with_other_authority(soa: &Reply, domain: &DnsName) -> ServerState {
    let alias = soa.answer.iter().find_map(|record| match &record.data {
        RecordData::Cname(target) if record.owner == *domain => Some(target.clone()),
        _ => None,
    });
    let is_soa = |record: &&Record| record.record_type() == RecordType::SOA && record.owner != *domain;
    let other = soa.answer.iter().chain(&soa.authority).find(is_soa).map(|record| record.owner.clone());
    match (alias, soa.rcode, other) {
        (Some(target), _, _) => ServerState::ApexAlias { target },
        (None, Reply::NXDOMAIN, _) => ServerState::NoSuchDomain,
        (None, Reply::NOERROR, Some(zone)) => ServerState::OtherZone { zone },
        (None, Reply::NOERROR, None) => ServerState::NotAuthoritative,
        (None, _, _) => ServerState::Refuses { rcode: soa.rcode_word() },
    }
}

#[cfg(test)]
#[path = "question_tests.rs"]
mod tests;
