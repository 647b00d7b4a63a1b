//! The thorough walk on one made-up internet: whatever a server does over UDP, without EDNS and over TCP.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::Arc;

use super::*;
use crate::delegation::{Brief, Observation, Observations, Picture, ServerState, Step, next_questions};
use crate::zone::{Record, Soa};

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn record(owner: &str, data: RecordData) -> Record {
    Record { owner: name(owner), ttl: 3600, data }
}

fn soa() -> Record {
    let data = Soa {
        primary: name("ns1.saltmarsh.example"),
        hostmaster: name("hostmaster.saltmarsh.example"),
        serial: 7,
        refresh: 14_400,
        retry: 1_800,
        expire: 2_419_200,
        negative_ttl: 300,
    };
    record("gullrock.example", RecordData::Soa(Box::new(data)))
}

/// How the one nameserver of gullrock.example answers, by transport; `None`: not at all.
type Habit = fn(&Question) -> Option<Reply>;

fn good(question: &Question) -> Option<Reply> {
    let mut reply = Reply { authoritative: true, edns: question.transport == Transport::Udp, ..Reply::default() };
    match question.record_type {
        _ if question.recursion_desired || question.record_type == RecordType::AXFR => {
            return Some(Reply { rcode: Reply::REFUSED, edns: true, ..Reply::default() });
        }
        RecordType::SOA => reply.answer.push(soa()),
        RecordType::NS => {
            reply.answer.push(record("gullrock.example", RecordData::Ns(name("ns1.saltmarsh.example"))));
        }
        _ => {}
    }
    Some(reply)
}

const NAMESERVER: &str = "192.0.2.3:53";

struct Walked {
    picture: Picture,
    asked: HashMap<(SocketAddr, RecordType, Transport), usize>,
}

/// Walks below a cut that is known already: the registry at 192.0.2.2 serves `example`.
fn walk(habit: Habit) -> Walked {
    let registry: SocketAddr = "192.0.2.2:53".parse().unwrap();
    let brief = Brief {
        domain: name("gullrock.example"),
        roots: vec!["192.0.2.1:53".parse().unwrap()],
        dns_port: 53,
        hostnames: vec![],
        most_questions: 200,
        thorough: true,
        validates: false,
        anchors: vec![],
        cuts: Arc::new([(name("example"), vec![registry])].into()),
    };
    let (mut seen, mut asked) = (Observations::default(), HashMap::new());
    for _ in 0..40 {
        let questions = match next_questions(&brief, &seen) {
            Step::Whole(picture) => return Walked { picture: *picture, asked },
            Step::Ask(questions) => questions,
        };
        for question in questions {
            *asked.entry((question.server, question.record_type, question.transport)).or_default() += 1;
            let reply = if question.server == registry { at_registry(&question) } else { habit(&question) };
            let at = "2026-11-23T07:00:00Z".parse().unwrap();
            seen.add(Observation {
                question,
                outcome: reply.map_or(Outcome::Silent, Outcome::Reply),
                at,
                elapsed_ms: 1,
            });
        }
    }
    panic!("the walk does not end");
}

fn at_registry(question: &Question) -> Option<Reply> {
    let mut reply = Reply { edns: true, ..Reply::default() };
    let address = record("ns1.saltmarsh.example", RecordData::A("192.0.2.3".parse().unwrap()));
    match (question.record_type, question.name.bare().as_str()) {
        (RecordType::NS, "gullrock.example") => {
            reply.authority.push(record("gullrock.example", RecordData::Ns(name("ns1.saltmarsh.example"))));
            reply.additional.push(address);
        }
        (RecordType::A, "ns1.saltmarsh.example") => {
            reply.authoritative = true;
            reply.answer.push(address);
        }
        _ => reply.authoritative = true,
    }
    Some(reply)
}

fn seen(walked: &Walked) -> (&ServerState, &Probed) {
    let server = &walked.picture.nameservers[0].servers[0];
    assert_eq!(server.address.to_string(), NAMESERVER);
    (&server.state, &server.probed)
}

fn count(walked: &Walked, record_type: RecordType, transport: Transport) -> usize {
    walked.asked.get(&(NAMESERVER.parse().unwrap(), record_type, transport)).copied().unwrap_or_default()
}

fn authority() -> ServerState {
    ServerState::Authoritative { serial: 7, nameservers: vec![name("ns1.saltmarsh.example")] }
}

#[test]
fn a_good_server_is_asked_each_thing_once() {
    let walked = walk(good);
    let (state, probed) = seen(&walked);
    assert_eq!(*state, authority());
    assert_eq!((&probed.udp, &probed.tcp, probed.edns), (&Reached::Works, &Reached::Works, Some(true)));
    assert!(!probed.recursion && !probed.transfer && probed.keys.is_empty());
    // The refused request for the whole zone shows that TCP works: nothing else is asked over it.
    assert_eq!(count(&walked, RecordType::AXFR, Transport::Tcp), 1);
    assert_eq!(count(&walked, RecordType::SOA, Transport::Tcp), 0);
    assert!(!walked.asked.keys().any(|(server, ..)| server.to_string() == "192.0.2.1:53"), "the root was left out");
}

#[test]
fn a_server_that_udp_does_not_reach_is_judged_by_tcp() {
    let walked = walk(|question| if question.transport == Transport::Tcp { good(question) } else { None });
    let (state, probed) = seen(&walked);
    assert!(matches!(state, ServerState::Authoritative { serial: 7, .. }), "{state:?}");
    assert_eq!((&probed.tcp, probed.edns), (&Reached::Works, None));
    assert!(matches!(&probed.udp, Reached::Failed(why) if why.contains("in time")), "{:?}", probed.udp);
}

#[test]
fn a_server_from_before_edns_is_asked_without_it() {
    let walked = walk(|question| match question.transport {
        Transport::Udp => Some(Reply { rcode: 1, ..Reply::default() }),
        _ => good(question),
    });
    let (state, probed) = seen(&walked);
    assert!(matches!(state, ServerState::Authoritative { .. }), "{state:?}");
    assert_eq!((&probed.udp, probed.edns), (&Reached::Works, Some(false)));
    assert_eq!(count(&walked, RecordType::SOA, Transport::PlainUdp), 1);
}

#[test]
fn tcp_that_drops_transfers_is_asked_once_more() {
    let walked = walk(|question| if question.record_type == RecordType::AXFR { None } else { good(question) });
    assert_eq!(seen(&walked).1.tcp, Reached::Works);
    let walked = walk(|question| if question.transport == Transport::Tcp { None } else { good(question) });
    assert!(matches!(seen(&walked).1.tcp, Reached::Failed(_)));
    assert_eq!(*seen(&walked).0, authority());
}

#[test]
fn recursion_and_open_transfers_are_seen() {
    let walked = walk(|question| {
        let mut reply = good(question)?;
        if question.recursion_desired {
            let hint = record(".", RecordData::Ns(name("a.root.example")));
            reply = Reply { recursion_available: true, answer: vec![hint], ..Reply::default() };
        }
        if question.record_type == RecordType::AXFR {
            reply = Reply { authoritative: true, answer: vec![soa(), soa()], ..Reply::default() };
        }
        Some(reply)
    });
    let (_, probed) = seen(&walked);
    assert!(probed.recursion && probed.transfer);
}

#[test]
fn a_server_that_gives_no_sign_of_life_is_not_probed() {
    let walked = walk(|_| None);
    let (state, probed) = seen(&walked);
    assert_eq!((state, probed.recursion), (&ServerState::Silent, false));
    let recursion =
        walked.asked.keys().filter(|(server, kind, _)| server.to_string() == NAMESERVER && *kind == RecordType::NS);
    assert_eq!(recursion.count(), 1, "its own NS records, and not those of the root");
}
