//! For every rule a picture that makes it fire and one that does not; and the folder is read for rules left out.

use super::*;
use crate::delegation::{
    Address, Chain, HostAnswer, Key, NameserverSeen, ParentAnswer, Probed, Reached, Registered, ServerSeen,
    ServerState, SetFlaw, Signature,
};
use crate::finding::{Severity, check_folder};
use crate::zone::{Record, RecordData, RecordType, Soa};

const SEEN: &str = "2026-11-23T07:00:00Z";

fn address_record(owner: &str, address: &str) -> Record {
    Record { owner: name(owner), ttl: 60, data: RecordData::of_address(address.parse().unwrap()) }
}

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn good() -> Picture {
    let mut names = vec![name("ns1.saltmarsh.example"), name("ns2.oldquay.example")];
    names.sort();
    let nameserver = |name: &DnsName, address: &str| NameserverSeen {
        name: name.clone(),
        glue: vec![],
        addresses: vec![address.parse().unwrap()],
        alias: None,
        servers: vec![ServerSeen {
            address: format!("{address}:53").parse().unwrap(),
            state: ServerState::Authoritative { serial: 7, nameservers: names.clone() },
            probed: Probed {
                soa: Some(soa()),
                ns_ttl: Some(3600),
                udp: Reached::Works,
                tcp: Reached::Works,
                edns: Some(true),
                ..Probed::default()
            },
            hosts: vec![host("192.0.2.80")],
        }],
    };
    Picture {
        registered: Registered::Yes,
        parent_zone: name("example"),
        parent: vec![ParentAnswer {
            server: "192.0.2.1:53".parse().unwrap(),
            nameservers: names.clone(),
            ttl: 3600,
            glue: vec![],
            stray: vec![],
            tcp: Reached::Works,
            serial: None,
            problem: None,
            denies: false,
        }],
        nameservers: vec![
            nameserver(&name("ns1.saltmarsh.example"), "192.0.2.53"),
            nameserver(&name("ns2.oldquay.example"), "198.51.100.53"),
        ],
        seen_at: Some(SEEN.parse().unwrap()),
        questions: 12,
        ..Picture::unasked(name("gullrock.example"))
    }
}

fn expected() -> Expected {
    let nameservers = vec![name("ns2.oldquay.example"), name("ns1.saltmarsh.example")];
    Expected { zone_here: Some(true), own_nameservers: nameservers.clone(), nameservers, ..Expected::default() }
}

fn soa() -> Soa {
    Soa {
        primary: name("ns1.saltmarsh.example"),
        hostmaster: name("hostmaster.saltmarsh.example"),
        serial: 7,
        refresh: 14_400,
        retry: 1_800,
        expire: 2_419_200,
        negative_ttl: 300,
    }
}

fn host(address: &str) -> HostAnswer {
    HostAnswer {
        hostname: name("www.gullrock.example"),
        addresses: vec![Address { address: address.parse().unwrap(), ttl: 300 }],
        aliases: vec![],
        no_such_name: false,
        negative_ttl: None,
    }
}

fn key() -> Key {
    let wire = [&[1, 1, 3, 13][..], &[7; 64]].concat();
    let data = RecordData::from_wire(RecordType::DNSKEY, &wire).unwrap();
    Key::of(&Record { owner: name("gullrock.example"), ttl: 3600, data }).unwrap()
}

/// Both servers have the key, the parent its DS, and a signature holds until the given time.
fn signed(picture: &mut Picture, until: &str) {
    picture.ds = vec![key().ds(&picture.domain)];
    for nameserver in &mut picture.nameservers {
        let probed = &mut nameserver.servers[0].probed;
        probed.keys = vec![key()];
        probed.signatures = vec![Signature {
            covered: RecordType::SOA,
            algorithm: 13,
            key_tag: key().key_tag,
            inception: "2026-11-20T00:00:00Z".parse().unwrap(),
            expiration: until.parse().unwrap(),
        }];
    }
}

/// Signed as it should be, but for one flaw at the first server.
fn flawed(picture: &mut Picture, flaw: Flaw) {
    signed(picture, "2026-12-20T00:00:00Z");
    let (name, record_type) = (picture.domain.clone(), RecordType::A);
    let absent = flaw == Flaw::Unproven;
    probed(picture).flaws = vec![SetFlaw { name, record_type, absent, flaw }];
}

fn probed(picture: &mut Picture) -> &mut Probed {
    &mut picture.nameservers[0].servers[0].probed
}

/// The codes when something else is expected.
fn fired_with(expected: Expected) -> Vec<&'static str> {
    judge(&good(), &expected).iter().map(|finding| finding.code).collect()
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
                p.parent[0].nameservers = vec![name("ns1.saltmarsh.example"), name("ns2.gullrock.example")];
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
        (
            "glue-partial",
            fired(|p| {
                rename_first(p, "ns1.gullrock.example");
                p.nameservers[0].glue = vec!["192.0.2.53".parse().unwrap()];
                p.nameservers[0].addresses = vec!["192.0.2.53".parse().unwrap(), "2001:db8::53".parse().unwrap()];
            }),
        ),
        (
            "zone-not-in-use",
            judge(
                &good(),
                &Expected {
                    nameservers: vec![name("ns1.gullrock.example"), name("ns2.gullrock.example")],
                    ..expected()
                },
            )
            .iter()
            .map(|finding| finding.code)
            .filter(|code| *code != "nameservers-not-as-expected")
            .collect(),
        ),
        ("delegated-here-without-zone", {
            let mut picture = good();
            for seen in &mut picture.nameservers {
                seen.servers[0].state = ServerState::Refuses { rcode: "REFUSED".into() };
            }
            let found = judge(&picture, &Expected { zone_here: Some(false), ..expected() });
            found.iter().map(|finding| finding.code).filter(|code| *code != "server-refuses").collect()
        }),
        ("zone-by-hand", fired_with(Expected { zone_here: Some(false), ..expected() })),
        (
            "provider-names-visible",
            fired_with(Expected { hidden_names: vec![name("ns2.oldquay.example")], ..expected() })[..1].to_vec(),
        ),
        (
            "nameserver-set-full",
            fired_with(Expected { load: Some(Load { set: "deep".into(), domains: 10, capacity: 10 }), ..expected() }),
        ),
        (
            "parents-differ",
            fired(|p| {
                let mut other = p.parent[0].clone();
                other.nameservers.truncate(1);
                p.parent.push(other);
            }),
        ),
        (
            "parent-server-silent",
            fired(|p| {
                let other = ParentAnswer { problem: Some("did not answer in time".into()), ..p.parent[0].clone() };
                p.parent.push(other);
            }),
        ),
        (
            "nameserver-name-is-address",
            fired(|p| {
                let address = name("192.0.2.54");
                p.parent[0].nameservers.retain(|other| *other != name("ns2.oldquay.example"));
                p.parent[0].nameservers.push(address.clone());
                p.nameservers[1].name = address;
            })
            .into_iter()
            .filter(|code| !["nameservers-not-as-expected", "parent-and-zone-differ"].contains(code))
            .collect(),
        ),
        ("nameserver-name-is-alias", fired(|p| p.nameservers[0].alias = Some(name("a.saltmarsh.example")))),
        (
            "glue-superfluous",
            fired(|p| p.parent[0].stray = vec![address_record("ns3.saltmarsh.example", "192.0.2.55")]),
        ),
        (
            "nameserver-out-of-place",
            fired(|p| state_of_first(p, ServerState::OutOfPlace { kind: "a private address".into() })),
        ),
        ("server-without-udp", fired(|p| probed(p).udp = Reached::Failed("did not answer in time".into()))),
        ("server-without-tcp", fired(|p| probed(p).tcp = Reached::Failed("did not answer in time".into()))),
        ("server-without-edns", fired(|p| probed(p).edns = Some(false))),
        (
            "serials-differ",
            fired(|p| {
                let nameservers = p.delegated_names();
                state_of_first(p, ServerState::Authoritative { serial: 5, nameservers });
            }),
        ),
        ("servers-disagree", fired(|p| p.nameservers[0].servers[0].hosts = vec![host("203.0.113.80")])),
        (
            "ds-without-key",
            fired(|p| {
                signed(p, "2026-12-20T00:00:00Z");
                probed(p).keys.clear();
            }),
        ),
        (
            "ds-unsupported",
            fired(|p| {
                signed(p, "2026-12-20T00:00:00Z");
                p.ds[0].algorithm = 5;
            }),
        ),
        ("signature-expired", {
            let mut codes = fired(|p| signed(p, "2026-11-22T00:00:00Z"));
            codes.dedup();
            codes
        }),
        ("signature-expires-soon", {
            let mut codes = fired(|p| signed(p, "2026-11-24T00:00:00Z"));
            codes.dedup();
            codes
        }),
        ("signature-wrong", fired(|p| flawed(p, Flaw::Altered { key_tag: 7 }))),
        ("signature-missing", fired(|p| flawed(p, Flaw::Missing))),
        ("absence-unproven", fired(|p| flawed(p, Flaw::Unproven))),
        (
            "chain-broken",
            fired(|p| {
                // What is below it is not looked at any more.
                signed(p, "2026-11-22T00:00:00Z");
                p.chain = Chain::Broken { zone: name("example"), why: "the keys of example. are gone".into() };
            }),
        ),
        (
            "ds-missing",
            fired(|p| {
                signed(p, "2026-12-20T00:00:00Z");
                p.ds.clear();
            }),
        ),
        (
            "single-nameserver",
            judge(
                &{
                    let mut picture = good();
                    picture.parent[0].nameservers = vec![name("ns1.saltmarsh.example")];
                    picture.nameservers.truncate(1);
                    let nameservers = picture.delegated_names();
                    state_of_first(&mut picture, ServerState::Authoritative { serial: 7, nameservers });
                    picture
                },
                &Expected::default(),
            )
            .iter()
            .map(|finding| finding.code)
            .collect(),
        ),
        (
            "nameservers-too-many",
            fired(|p| p.parent[0].nameservers.extend((3..15).map(|number| name(&format!("ns{number}.a.example")))))
                .into_iter()
                .filter(|code| !["nameservers-not-as-expected", "parent-and-zone-differ"].contains(code))
                .collect(),
        ),
        ("one-network", fired(|p| p.nameservers[1].servers[0].address = "192.0.2.54:53".parse().unwrap())),
        (
            "one-nameserver-domain",
            fired(|p| {
                let names = vec![name("ns1.saltmarsh.example"), name("ns2.saltmarsh.example")];
                p.parent[0].nameservers = names.clone();
                for seen in &mut p.nameservers {
                    seen.servers[0].state = ServerState::Authoritative { serial: 7, nameservers: names.clone() };
                }
            })
            .into_iter()
            .filter(|code| *code != "nameservers-not-as-expected")
            .collect(),
        ),
        ("recursion-offered", fired(|p| probed(p).recursion = true)),
        ("transfer-open", fired(|p| probed(p).transfer = true)),
        ("served-soa-times", fired(|p| probed(p).soa.as_mut().unwrap().retry = 20_000)),
        ("primary-not-in-set", fired(|p| probed(p).soa.as_mut().unwrap().primary = name("hidden.saltmarsh.example"))),
        ("delegation-ttls-differ", {
            let mut picture = good();
            probed(&mut picture).ns_ttl = Some(60);
            assert_eq!(judge(&picture, &expected()), [], "a note only where it matters");
            let wanted = Expected { nameservers: vec![name("ns1.saltmarsh.example")], ..Expected::default() };
            let found = judge(&picture, &wanted).into_iter().map(|finding| finding.code);
            found.filter(|code| *code != "nameservers-not-as-expected").collect()
        }),
        ("glue-differs", fired(|p| p.nameservers[0].glue = vec!["203.0.113.9".parse().unwrap()])),
        ("nameserver-without-address", fired(|p| p.nameservers[1].addresses.clear())),
        ("server-silent", fired(|p| state_of_first(p, ServerState::Silent))),
        (
            "server-unreachable",
            fired(|p| state_of_first(p, ServerState::Unreachable { reason: "connection refused".into() })),
        ),
        ("server-garbled", fired(|p| state_of_first(p, ServerState::Garbled { reason: "cut".into() }))),
        ("server-fails", fired(|p| state_of_first(p, ServerState::Refuses { rcode: "SERVFAIL".into() }))),
        ("server-denies-domain", fired(|p| state_of_first(p, ServerState::NoSuchDomain))),
        ("served-apex-alias", fired(|p| state_of_first(p, ServerState::ApexAlias { target: name("a.example") }))),
        ("served-other-zone", fired(|p| state_of_first(p, ServerState::OtherZone { zone: name("example") }))),
        (
            "served-ttl-zero",
            fired(|p| {
                let nameserver = &mut p.nameservers[1].servers[0];
                nameserver.hosts[0].addresses[0].ttl = 0;
            }),
        ),
        (
            "ds-for-another-key",
            fired(|p| {
                signed(p, "2026-12-20T00:00:00Z");
                p.ds[0].digest[0] ^= 1;
            })
            .into_iter()
            .take(1)
            .collect(),
        ),
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
fn parents_that_have_one_version_do_not_come_together_by_waiting() {
    let found = |serial: u32, denies: bool| {
        let mut picture = good();
        picture.parent_soa = Some(soa());
        picture.parent[0].serial = Some(9);
        let mut other = ParentAnswer { serial: Some(serial), ..picture.parent[0].clone() };
        match denies {
            true => other = ParentAnswer { denies, problem: Some("says no".into()), nameservers: vec![], ..other },
            false => other.nameservers.truncate(1),
        }
        picture.parent.push(other);
        let found = judge(&picture, &expected()).into_iter().find(|finding| finding.code == "parents-differ").unwrap();
        (found.severity, found.waits_until.is_some())
    };
    assert_eq!(found(8, false), (Severity::Risk, true));
    assert_eq!(found(9, false), (Severity::Risk, false));
    assert_eq!(found(10, true), (Severity::Risk, true));
    assert_eq!(found(9, true), (Severity::Fault, false));
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
fn a_change_made_a_moment_ago_is_told_from_a_mistake() {
    let mut picture = good();
    let nameservers = picture.delegated_names();
    state_of_first(&mut picture, ServerState::Authoritative { serial: 5, nameservers });
    let judged = |changed: &str| {
        let expected = Expected { changed_at: Some(changed.parse().unwrap()), ..expected() };
        judge(&picture, &expected)[0].clone()
    };
    // Refresh and retry are 4 h 30 m together.
    let fresh = judged("2026-11-23T06:00:00Z");
    assert_eq!((fresh.word(), fresh.waits_until), ("waiting", Some("2026-11-23T10:30:00Z".parse().unwrap())));
    let old = judged("2026-11-22T06:00:00Z");
    assert_eq!((old.word(), old.waits_until), ("risk", None));
}

#[test]
fn soa_times_are_judged_on_whichever_server_has_them() {
    let judged = |spoil: &dyn Fn(&mut Picture)| {
        let mut picture = good();
        spoil(&mut picture);
        let messages = judge(&picture, &expected()).into_iter().map(|finding| finding.message);
        messages.collect::<Vec<_>>()
    };
    let retry = |picture: &mut Picture, at: usize| {
        picture.nameservers[at].servers[0].probed.soa.as_mut().unwrap().retry = 20_000;
    };
    let second = judged(&|p| retry(p, 1));
    assert!(second.len() == 1 && second[0].starts_with("on ns2.oldquay.example: "), "{second:?}");
    let both = judged(&|p| (0..2).for_each(|at| retry(p, at)));
    assert!(both.len() == 1 && !both[0].contains("ns1"), "said once: {both:?}");
}

#[test]
fn dead_glue_beside_a_live_address_names_the_live_one() {
    let mut picture = good();
    let live = picture.nameservers[0].servers[0].clone();
    let dead = ServerSeen { address: "203.0.113.9:53".parse().unwrap(), state: ServerState::Silent, ..live.clone() };
    picture.nameservers[0].glue = vec!["203.0.113.9".parse().unwrap()];
    picture.nameservers[0].servers = vec![live, dead];
    let found = judge(&picture, &expected());
    let glue = found.iter().find(|finding| finding.code == "glue-differs").unwrap();
    assert_eq!(
        glue.cure,
        "at the registrar, change the address of ns1.saltmarsh.example from 203.0.113.9 to 192.0.2.53"
    );
}

#[test]
fn glue_that_agrees_is_good() {
    let agreeing = fired(|p| {
        p.nameservers[0].glue = vec!["192.0.2.53".parse().unwrap()];
        p.parent[0].glue = vec![address_record("ns1.saltmarsh.example", "192.0.2.53")];
    });
    assert_eq!(agreeing, Vec::<&str>::new());
}

#[test]
fn every_file_of_the_folder_is_a_registered_rule_with_texts_and_a_trigger() {
    let texts: Vec<_> = ALL.iter().map(|rule| rule.text).collect();
    check_folder("delegation/rules", &texts, &triggers().iter().map(|(code, _)| *code).collect::<Vec<_>>());
}

#[test]
fn servers_of_ours_under_other_names_are_ours() {
    let addresses = ["192.0.2.53", "198.51.100.53"].map(|text| text.parse().unwrap()).to_vec();
    let nameservers = vec![name("ns1.gullrock.example"), name("ns2.gullrock.example")];
    let codes = |own_addresses: Vec<IpAddr>| {
        let wanted = Expected { nameservers: nameservers.clone(), own_addresses, ..expected() };
        judge(&good(), &wanted).iter().map(|finding| finding.code).collect::<Vec<_>>()
    };
    assert_eq!(codes(addresses.clone()), [""; 0], "whatever the nameservers are called");
    let half = codes(addresses[..1].to_vec());
    assert!(half.contains(&"nameservers-not-as-expected") && !half.contains(&"zone-not-in-use"), "{half:?}");
}

#[test]
fn networks_are_compared_by_two_lengths_and_never_inside_a_closed_one() {
    let at = |addresses: [&str; 2]| {
        let mut picture = good();
        for (seen, address) in picture.nameservers.iter_mut().zip(addresses) {
            seen.servers[0].address = format!("{address}:53").parse().unwrap();
        }
        let found = judge(&picture, &expected());
        found.into_iter().find(|one| one.code == "one-network").map(|one| one.severity)
    };
    assert_eq!(at(["192.0.2.53", "192.0.2.54"]), Some(crate::finding::Severity::Risk));
    assert_eq!(at(["198.51.100.53", "198.51.101.53"]), Some(crate::finding::Severity::Note), "one /22");
    assert_eq!(at(["198.51.100.53", "198.51.104.53"]), None);
    assert_eq!(at(["127.0.0.1", "127.0.0.2"]), None, "a closed network is one network");
    assert_eq!(at(["10.0.0.1", "10.0.0.2"]), None);
}

#[test]
fn what_somebody_was_asked_for_a_moment_ago_is_waited_for_and_then_missed() {
    let found = |asked: &str, soa: Option<Soa>| {
        let nameservers = vec![name("ns1.gullrock.example"), name("ns2.gullrock.example")];
        let wanted = Expected { nameservers, asked_at: Some(asked.parse().unwrap()), ..expected() };
        let mut picture = good();
        picture.parent_soa = soa;
        let all = judge(&picture, &wanted);
        let one = all.into_iter().find(|one| one.code == "nameservers-not-as-expected").unwrap();
        (one.waits_until.map(|until| until.to_string()), one.message.contains("; asked for on 2026-11-2"))
    };
    // Refresh and retry of the parent are four hours and a half.
    assert_eq!(found("2026-11-23T06:00:00Z", Some(soa())), (Some("2026-11-23T10:30:00Z".into()), true));
    assert_eq!(found("2026-11-23T02:00:00Z", Some(soa())), (None, true), "that is over");
    assert_eq!(found("2026-11-23T02:00:00Z", None), (Some("2026-11-24T02:00:00Z".into()), true));
}

#[test]
fn a_flaw_is_named_with_what_it_is_about() {
    let message = |absent: bool, flaw: Flaw| {
        let mut picture = good();
        flawed(&mut picture, flaw);
        probed(&mut picture).flaws[0].absent = absent;
        judge(&picture, &expected())[0].message.clone()
    };
    let at = "at ns1.saltmarsh.example (192.0.2.53:53)";
    assert_eq!(message(false, Flaw::Missing), format!("{at} A of gullrock.example has no signature"));
    let proof = format!("{at} the proof that there is no A of gullrock.example has no signature");
    assert_eq!(message(true, Flaw::Missing), proof);
    assert_eq!(message(true, Flaw::Unproven), format!("{at} that there is no A of gullrock.example is not proven"));
}
