//! What else is asked of a nameserver by a thorough walk: TCP, EDNS, keys and signatures, recursion, transfers.
//!
//! `question` asks what tells who answers; here is what tells how well. A server that has given no sign of life is left
//! alone.

use std::net::SocketAddr;

use jiff::Timestamp;

use super::walk::Walk;
use super::{Key, Outcome, Probed, Question, Reached, Reply, Signature, Transport};
use crate::name::DnsName;
use crate::zone::{RecordData, RecordType};

/// A server's answer about the start of authority, over whatever it can be had by, and what else was seen on the way.
pub(super) struct Sign<'a> {
    pub outcome: &'a Outcome,
    pub probed: Probed,
}

/// Asks for the start of authority over UDP, and where that does not do, without EDNS and over TCP.
pub(super) fn sign_of_life<'a>(walk: &mut Walk<'a>, server: SocketAddr) -> Option<Sign<'a>> {
    let domain = &walk.brief.domain;
    let by = |transport| Question { transport, ..Question::authoritative(server, domain, RecordType::SOA) };
    // All that will be wanted of a server that lives is asked at once: a round more for each domain is the dearer thing.
    let udp = walk.ask_by(by(Transport::Udp));
    let (whole, _) = match walk.brief.thorough {
        true => (walk.ask_by(whole_zone(server, domain)), walk.ask(server, domain, RecordType::DNSKEY)),
        false => (None, None),
    };
    let udp = udp?;
    let mut probed = Probed::default();
    if !walk.brief.thorough {
        probed.soa = soa_of(udp, domain);
        return Some(Sign { outcome: udp, probed });
    }
    if *udp == Outcome::NoRoute {
        return Some(Sign { outcome: udp, probed });
    }
    let fails_with_edns = match udp {
        // FORMERR and NOTIMP are how servers from before EDNS answer (RFC 6891 section 7).
        Outcome::Reply(reply) => matches!(reply.rcode, 1 | 4),
        _ => true,
    };
    let plain = if fails_with_edns { Some(walk.ask_by(by(Transport::PlainUdp))) } else { None };
    // The request for the whole zone is one over TCP: even its refusal shows that TCP works. Servers that drop it, and
    // those that UDP does not reach, are asked once more.
    let tcp = match whole? {
        whole @ Outcome::Reply(_) if !fails_with_edns => Some(whole),
        _ => walk.ask_by(by(Transport::Tcp)),
    };
    let (plain, tcp) = (plain.map_or(Some(None), |plain| plain.map(Some))?, tcp?);
    probed.tcp = reached(tcp);
    probed.udp = reached(plain.unwrap_or(udp));
    probed.edns = match (udp, plain) {
        (Outcome::Reply(reply), None) => Some(reply.edns),
        (_, Some(Outcome::Reply(_))) => Some(false),
        _ => None,
    };
    let best = [Some(udp).filter(|_| !fails_with_edns), plain, Some(tcp).filter(|_| fails_with_edns)];
    let outcome = best.into_iter().flatten().find(|outcome| matches!(outcome, Outcome::Reply(_))).unwrap_or(udp);
    probed.soa = soa_of(outcome, domain);
    Some(Sign { outcome, probed })
}

/// What a server that answers is asked beside it.
pub(super) fn probe(walk: &mut Walk<'_>, server: SocketAddr, probed: &mut Probed) -> Option<()> {
    let domain = &walk.brief.domain;
    let keys = walk.ask(server, domain, RecordType::DNSKEY);
    let soa = walk.ask(server, domain, RecordType::SOA);
    let root =
        Question { recursion_desired: true, ..Question::authoritative(server, &DnsName::root(), RecordType::NS) };
    let root = walk.ask_by(root);
    let whole = walk.ask_by(whole_zone(server, domain));
    let (keys, soa, root, whole) = (keys?, soa?, root?, whole?);
    probed.recursion = match root {
        Outcome::Reply(reply) => reply.recursion_available && reply.rcode == Reply::NOERROR && !reply.answer.is_empty(),
        _ => false,
    };
    probed.transfer = match whole {
        Outcome::Reply(reply) => {
            reply.rcode == Reply::NOERROR && reply.answer.iter().any(|record| record.record_type() == RecordType::SOA)
        }
        _ => false,
    };
    if let Outcome::Reply(reply) = keys {
        probed.keys = reply.answer.iter().filter(|record| record.owner == *domain).filter_map(Key::of).collect();
    }
    let now = walk.seen_at().unwrap_or(Timestamp::UNIX_EPOCH);
    for outcome in [keys, soa] {
        if let Outcome::Reply(reply) = outcome {
            probed.signatures.extend(reply.answer.iter().filter_map(|record| Signature::of(record, now)));
        }
    }
    Some(())
}

fn whole_zone(server: SocketAddr, domain: &DnsName) -> Question {
    Question { transport: Transport::Tcp, ..Question::authoritative(server, domain, RecordType::AXFR) }
}

pub(super) fn soa_of(outcome: &Outcome, domain: &DnsName) -> Option<crate::zone::Soa> {
    let Outcome::Reply(reply) = outcome else { return None };
    reply.answer.iter().find_map(|record| match &record.data {
        RecordData::Soa(soa) if record.owner == *domain => Some((**soa).clone()),
        _ => None,
    })
}

pub(super) fn reached(outcome: &Outcome) -> Reached {
    match outcome {
        Outcome::Reply(_) => Reached::Works,
        Outcome::NoRoute => Reached::Unasked,
        other => Reached::Failed(other.in_words()),
    }
}

#[cfg(test)]
#[path = "probe_tests.rs"]
mod tests;
