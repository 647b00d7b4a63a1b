//! For every rule a picture that makes it fire and one that does not; and the folder is read for rules left out.

use std::collections::BTreeSet;

use super::*;
use crate::delegation::{NameserverSeen, ParentAnswer, Registered, ServerSeen, ServerState};
use crate::zone::{Record, RecordData};

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn good() -> Picture {
    let names = vec![name("ns1.saltmarsh.example"), name("ns2.saltmarsh.example")];
    let nameserver = |name: &DnsName, address: &str| NameserverSeen {
        name: name.clone(),
        glue: vec![],
        addresses: vec![address.parse().unwrap()],
        servers: vec![ServerSeen {
            address: format!("{address}:53").parse().unwrap(),
            state: ServerState::Authoritative { serial: 7, nameservers: names.clone() },
            hosts: vec![],
        }],
    };
    Picture {
        domain: name("gullrock.example"),
        registered: Registered::Yes,
        parent_zone: name("example"),
        parent: vec![ParentAnswer {
            server: "192.0.2.1:53".parse().unwrap(),
            nameservers: names.clone(),
            ttl: 3600,
            glue: vec![],
            problem: None,
        }],
        nameservers: vec![nameserver(&names[0], "192.0.2.53"), nameserver(&names[1], "198.51.100.53")],
        questions: 12,
    }
}

fn expected() -> Expected {
    Expected { nameservers: vec![name("ns2.saltmarsh.example"), name("ns1.saltmarsh.example")], ..Expected::default() }
}

/// The codes that fire when the good picture is spoilt in one way.
fn fired(spoil: impl FnOnce(&mut Picture)) -> Vec<&'static str> {
    let mut picture = good();
    spoil(&mut picture);
    judge(&picture, &expected()).iter().map(|finding| finding.code).collect()
}

fn state_of_first(picture: &mut Picture, state: ServerState) {
    picture.nameservers[0].servers[0].state = state;
}

fn rename_first(picture: &mut Picture, to: &str) {
    picture.nameservers[0].name = name(to);
}

/// Each rule with the picture that triggers it, and no other rule.
fn triggers() -> Vec<(&'static str, Vec<&'static str>)> {
    vec![
        (
            "not-registered",
            fired(|p| {
                p.registered = Registered::No;
                p.parent.clear();
                p.nameservers.clear();
            }),
        ),
        (
            "parent-not-reached",
            fired(|p| {
                p.registered = Registered::Unknown("silence".into());
                p.parent.clear();
                p.nameservers.clear();
            }),
        ),
        (
            "nameservers-not-as-expected",
            fired(|p| {
                p.parent[0].nameservers = vec![name("ns.oldquay.example")];
                p.nameservers.clear();
            }),
        ),
        (
            "glue-missing",
            fired(|p| {
                rename_first(p, "ns1.gullrock.example");
                p.nameservers[0].addresses.clear();
            }),
        ),
        ("glue-differs", fired(|p| p.nameservers[0].glue = vec!["203.0.113.9".parse().unwrap()])),
        ("nameserver-without-address", fired(|p| p.nameservers[1].addresses.clear())),
        ("server-silent", fired(|p| state_of_first(p, ServerState::Silent))),
        ("server-refuses", fired(|p| state_of_first(p, ServerState::Refuses { rcode: "REFUSED".into() }))),
        ("server-not-authoritative", fired(|p| state_of_first(p, ServerState::NotAuthoritative))),
        (
            "parent-and-zone-differ",
            fired(|p| {
                let nameservers = vec![name("ns1.saltmarsh.example")];
                state_of_first(p, ServerState::Authoritative { serial: 7, nameservers });
            }),
        ),
    ]
}

#[test]
fn a_good_delegation_has_no_findings() {
    assert_eq!(judge(&good(), &expected()), []);
    assert_eq!(judge(&good(), &Expected::default()), [], "without a harbor nothing is expected");
}

#[test]
fn each_rule_fires_on_its_own_fault_alone() {
    for (code, fired) in triggers() {
        assert_eq!(fired, [code]);
    }
}

#[test]
fn glue_that_agrees_is_good() {
    let agreeing = fired(|p| {
        p.nameservers[0].glue = vec!["192.0.2.53".parse().unwrap()];
        p.parent[0].glue = vec![Record {
            owner: name("ns1.saltmarsh.example"),
            ttl: 60,
            data: RecordData::A("192.0.2.53".parse().unwrap()),
        }];
    });
    assert_eq!(agreeing, Vec::<&str>::new());
}

#[test]
fn every_file_of_the_folder_is_a_registered_rule_with_texts_and_a_trigger() {
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/src/delegation/rules");
    let files: BTreeSet<String> = std::fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|file| !["mod.rs", "tests.rs"].contains(&file.as_str()))
        .map(|file| file.trim_end_matches(".rs").replace('_', "-"))
        .collect();
    let registered: BTreeSet<String> = ALL.iter().map(|rule| rule.text.code.to_string()).collect();
    let tested: BTreeSet<String> = triggers().iter().map(|(code, _)| code.to_string()).collect();
    assert_eq!(files, registered);
    assert_eq!(registered, tested);
    for rule in ALL {
        let text = rule.text;
        assert!([text.what, text.why, text.cure].iter().all(|part| part.len() > 40), "{}", text.code);
        assert!(text.source.starts_with("RFC "), "{}", text.code);
    }
}
