//! The walk on small made-up internets: each is a table of who answers what, asked until the picture is whole.

use std::collections::HashMap;
use std::sync::Arc;

use super::*;
use crate::delegation::{Observation, Step};
use crate::zone::{Record, Soa};

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn record(owner: &str, data: RecordData) -> Record {
    Record { owner: name(owner), ttl: 300, data }
}

fn ns(owner: &str, target: &str) -> Record {
    record(owner, RecordData::Ns(name(target)))
}

fn a(owner: &str, address: &str) -> Record {
    record(owner, RecordData::A(address.parse().unwrap()))
}

fn soa(owner: &str, serial: u32) -> Record {
    let data = Soa {
        primary: name("ns1.saltmarsh.example"),
        hostmaster: name("host.saltmarsh.example"),
        serial,
        refresh: 1,
        retry: 1,
        expire: 1,
        negative_ttl: 60,
    };
    record(owner, RecordData::Soa(Box::new(data)))
}

/// Answers by server: what each says for a name and type.
#[derive(Default)]
struct MadeUp {
    zones: HashMap<&'static str, Vec<Record>>,
    /// Delegations: (server, cut, the NS records, glue).
    cuts: Vec<(&'static str, &'static str, Vec<Record>, Vec<Record>)>,
    silent: Vec<&'static str>,
    asked: usize,
}

impl MadeUp {
    fn answer(&self, question: &Question) -> Outcome {
        let server = question.server.ip().to_string();
        if self.silent.contains(&server.as_str()) {
            return Outcome::Silent;
        }
        let mut reply = Reply::default();
        for (at, cut, names, glue) in &self.cuts {
            if *at == server && question.name.is_within(&name(cut)) {
                reply.authority = names.clone();
                reply.additional = glue.clone();
                return Outcome::Reply(reply);
            }
        }
        let Some(records) = self.zones.get(server.as_str()) else {
            reply.rcode = Reply::REFUSED;
            return Outcome::Reply(reply);
        };
        reply.authoritative = true;
        reply.answer = records
            .iter()
            .filter(|record| record.owner == question.name && record.record_type() == question.record_type)
            .cloned()
            .collect();
        if !records.iter().any(|record| record.owner.is_within(&question.name)) {
            reply.rcode = Reply::NXDOMAIN;
        }
        Outcome::Reply(reply)
    }

    fn walk(&mut self, domain: &str) -> Picture {
        let brief = Brief {
            domain: name(domain),
            roots: vec!["192.0.2.1:53".parse().unwrap()],
            dns_port: 53,
            hostnames: vec![name(&format!("www.{domain}"))],
            most_questions: 200,
            thorough: false,
            validates: false,
            anchors: vec![],
            cuts: Arc::default(),
        };
        let mut seen = Observations::default();
        for _ in 0..60 {
            match next_questions(&brief, &seen) {
                Step::Whole(picture) => return *picture,
                Step::Ask(questions) => {
                    assert!(!questions.is_empty());
                    for question in questions {
                        self.asked += 1;
                        let outcome = self.answer(&question);
                        let at = "2026-11-23T07:00:00Z".parse().unwrap();
                        seen.add(Observation { question, outcome, at, elapsed_ms: 1 });
                    }
                }
            }
        }
        panic!("the walk does not end");
    }
}

fn coast() -> MadeUp {
    let mut world = MadeUp::default();
    world.cuts.push((
        "192.0.2.1",
        "example",
        vec![ns("example", "a.nic.example")],
        vec![a("a.nic.example", "192.0.2.2")],
    ));
    let provider = vec![ns("saltmarsh.example", "ns1.saltmarsh.example")];
    world.cuts.push(("192.0.2.2", "saltmarsh.example", provider, vec![a("ns1.saltmarsh.example", "192.0.2.3")]));
    world.cuts.push(("192.0.2.2", "gullrock.example", vec![ns("gullrock.example", "ns1.saltmarsh.example")], vec![]));
    world.zones.insert("192.0.2.2", vec![soa("example", 1), a("a.nic.example", "192.0.2.2")]);
    world.zones.insert(
        "192.0.2.3",
        vec![
            soa("gullrock.example", 7),
            ns("gullrock.example", "ns1.saltmarsh.example"),
            a("www.gullrock.example", "192.0.2.80"),
            soa("saltmarsh.example", 3),
            a("ns1.saltmarsh.example", "192.0.2.3"),
        ],
    );
    world
}

#[test]
fn ten_thousand_nameservers_cost_no_more_than_the_first_of_them() {
    let mut world = coast();
    let many = (0..10_000).map(|number| ns("gullrock.example", &format!("ns{number}.flood{number}.example")));
    let glue = (0..10_000).map(|number| a(&format!("ns{number}.flood{number}.example"), "192.0.2.3"));
    world.cuts.retain(|(_, cut, ..)| *cut != "gullrock.example");
    world.cuts.push(("192.0.2.2", "gullrock.example", many.collect(), glue.collect()));
    let picture = world.walk("gullrock.example");
    assert!(world.asked <= 200 && picture.nameservers.len() <= MOST_NAMESERVERS, "{}", world.asked);
}

#[test]
fn referrals_without_end_are_left() {
    let mut world = coast();
    // Each nameserver's name needs the next one, and each cut leads to a deeper one.
    for depth in 0..40 {
        let (cut, next) = (format!("d{depth}.example"), format!("ns.d{}.example", depth + 1));
        let cut: &'static str = Box::leak(cut.into_boxed_str());
        world.cuts.push(("192.0.2.2", cut, vec![ns(cut, &next)], vec![]));
    }
    world.cuts.retain(|(_, cut, ..)| *cut != "gullrock.example");
    world.cuts.push(("192.0.2.2", "gullrock.example", vec![ns("gullrock.example", "ns.d0.example")], vec![]));
    let picture = world.walk("gullrock.example");
    assert_eq!(picture.nameservers[0].addresses, Vec::<IpAddr>::new());
    assert!(world.asked < 60, "{}", world.asked);
}

#[test]
fn a_nameserver_outside_the_domain_is_found_by_the_same_walk() {
    let picture = coast().walk("gullrock.example");
    assert_eq!(picture.registered, Registered::Yes);
    assert_eq!(picture.parent_zone, name("example"));
    assert_eq!(picture.delegated_names(), [name("ns1.saltmarsh.example")]);
    let server = &picture.nameservers[0].servers[0];
    let nameservers = vec![name("ns1.saltmarsh.example")];
    assert_eq!(server.state, ServerState::Authoritative { serial: 7, nameservers });
    assert_eq!(server.hosts[0].addresses[0].address.to_string(), "192.0.2.80");
    assert!(picture.questions < 20, "{}", picture.questions);
}

#[test]
fn a_nameserver_inside_the_domain_is_found_by_its_glue() {
    let picture = coast().walk("saltmarsh.example");
    let seen = &picture.nameservers[0];
    assert_eq!(seen.glue, seen.addresses);
    assert!(matches!(seen.servers[0].state, ServerState::Authoritative { serial: 3, .. }));
}

#[test]
fn a_domain_that_nobody_registered() {
    let picture = coast().walk("driftwood.example");
    assert_eq!(picture.registered, Registered::No);
    assert_eq!(picture.parent_zone, name("example"));
}

#[test]
fn silence_at_the_root_and_at_a_nameserver() {
    let mut world = coast();
    world.silent = vec!["192.0.2.1"];
    let picture = world.walk("gullrock.example");
    assert_eq!(picture.registered, Registered::Unknown("192.0.2.1:53 did not answer in time".into()));
    let mut world = coast();
    world.zones.get_mut("192.0.2.3").unwrap().retain(|record| record.owner.is_within(&name("saltmarsh.example")));
    let picture = world.walk("gullrock.example");
    assert_eq!(picture.nameservers[0].servers[0].state, ServerState::NoSuchDomain);
}

#[test]
fn two_domains_whose_nameservers_lie_in_each_other_end() {
    let mut world = coast();
    world.cuts.push(("192.0.2.2", "buoy.example", vec![ns("buoy.example", "ns.anchor.example")], vec![]));
    world.cuts.push(("192.0.2.2", "anchor.example", vec![ns("anchor.example", "ns.buoy.example")], vec![]));
    let picture = world.walk("buoy.example");
    assert_eq!(picture.nameservers[0].addresses, Vec::<IpAddr>::new());
}

#[test]
fn referrals_upwards_or_in_place_do_not_go_on_for_ever() {
    let mut world = coast();
    world.cuts.insert(0, ("192.0.2.2", "gullrock.example", vec![ns("example", "a.nic.example")], vec![]));
    let picture = world.walk("gullrock.example");
    assert!(matches!(picture.registered, Registered::Unknown(_)), "{:?}", picture.registered);
}

#[test]
fn a_flood_of_nameservers_is_bounded() {
    let mut world = coast();
    let flood: Vec<Record> = (0..10_000).map(|i| ns("flood.example", &format!("ns{i}.far{i}.example"))).collect();
    world.cuts.insert(0, ("192.0.2.2", "flood.example", flood, vec![]));
    let picture = world.walk("flood.example");
    assert!(world.asked <= 200, "{}", world.asked);
    assert!(picture.questions <= 200);
}
