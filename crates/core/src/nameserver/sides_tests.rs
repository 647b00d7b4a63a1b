//! A nameserver before, during and after its registration, and with faults on each side.

use super::*;

const V4: &str = "192.0.2.53";
const V6: &str = "2001:db8::53";

fn name(text: &str) -> DnsName {
    DnsName::absolute(text).unwrap()
}

fn parsed(texts: &[&str]) -> BTreeSet<IpAddr> {
    texts.iter().map(|text| text.parse().unwrap()).collect()
}

/// A server for each list of addresses.
fn said(lists: &[&[&str]]) -> Vec<Said> {
    let one = |(number, list): (usize, &&[&str])| Said {
        server: format!("198.51.100.{number}:53").parse().unwrap(),
        addresses: parsed(list),
        failed: None,
    };
    lists.iter().enumerate().map(one).collect()
}

/// Registered with both addresses.
fn good() -> HostSeen {
    let answering = |address: &str| Answering {
        server: SocketAddr::new(address.parse().unwrap(), 53),
        zone: name("gullrock.example"),
        state: ServerState::Authoritative { serial: 7, nameservers: vec![] },
    };
    HostSeen {
        name: name("ns1.gullrock.example"),
        wanted: parsed(&[V4, V6]).into_iter().collect(),
        domain: Some(name("gullrock.example")),
        needs_glue: false,
        is_named: false,
        registry: said(&[&[V4, V6], &[V4, V6]]),
        zone: said(&[&[V4, V6]]),
        servers: vec![answering(V4), answering(V6)],
    }
}

fn addresses(texts: &[&str]) -> Vec<IpAddr> {
    parsed(texts).into_iter().collect()
}

#[test]
fn before_during_and_after_a_registration() {
    let after = good();
    assert_eq!((after.registration(), after.in_zone()), (Registration::Complete, InZone::Complete));
    assert!(after.holds() && !after.waits() && after.next().is_empty());

    let before = HostSeen { registry: said(&[&[], &[]]), ..good() };
    let register = NextStep::Register { domain: name("gullrock.example"), addresses: addresses(&[V4, V6]) };
    assert_eq!((before.registration(), before.next()), (Registration::Absent, vec![register]));
    assert!(!before.holds() && before.waits());

    let during = HostSeen { registry: said(&[&[V4, V6], &[]]), ..good() };
    assert_eq!(during.registration(), Registration::Spreading { having: 1, servers: 2 });
    assert_eq!((during.next(), during.waits()), (vec![NextStep::Wait], true));

    // Without it nobody finds the domain: no time to wait.
    let needed = HostSeen { needs_glue: true, is_named: true, ..before };
    assert!(!needed.holds() && !needed.waits());
}

#[test]
fn what_lacks_or_is_wrong_is_named_on_each_side() {
    let partial = HostSeen { registry: said(&[&[V4], &[V4]]), ..good() };
    let missing = Registration::Differs { missing: addresses(&[V6]), strange: vec![] };
    let give = NextStep::GiveAddresses { domain: name("gullrock.example"), addresses: addresses(&[V4, V6]) };
    assert_eq!((partial.registration(), partial.next()), (missing, vec![give]));
    assert!(!partial.holds() && !partial.waits());

    let other = HostSeen { registry: said(&[&["192.0.2.99"]]), ..good() };
    let differs = Registration::Differs { missing: addresses(&[V4, V6]), strange: addresses(&["192.0.2.99"]) };
    assert_eq!(other.registration(), differs);

    let behind = HostSeen { zone: said(&[&[V4, V6], &[V4, "192.0.2.99"]]), ..good() };
    let (missing, strange) = (addresses(&[V6]), addresses(&["192.0.2.99"]));
    let in_zone = InZone::Differs { missing: missing.clone(), strange: strange.clone(), servers: 1 };
    let enter = NextStep::EnterInZone { domain: name("gullrock.example"), missing, strange };
    assert_eq!((behind.in_zone(), behind.next(), behind.holds()), (in_zone, vec![enter], false));

    let mut silent = HostSeen { registry: said(&[&[]]), ..good() };
    silent.servers[1].state = ServerState::Silent;
    let start = NextStep::StartServer {
        server: silent.servers[1].server,
        zone: name("gullrock.example"),
        state: ServerState::Silent,
    };
    assert_eq!(silent.next()[0], start, "it answers before it is registered");
    assert_eq!((silent.next().len(), silent.holds(), silent.waits()), (2, false, false));
    silent.servers[1].state = ServerState::NoRoute;
    assert!(silent.waits(), "what this host cannot ask says nothing");
}

#[test]
fn whoever_said_nothing_is_not_counted_and_a_name_elsewhere_needs_no_registration() {
    let mut half = good();
    half.registry[0].failed = Some("did not answer in time".into());
    half.registry[0].addresses.clear();
    assert_eq!(half.registration(), Registration::Complete);
    half.registry[1].failed = Some("answered REFUSED".into());
    assert_eq!(half.registration(), Registration::Unseen("did not answer in time".into()));
    assert!(!half.holds());

    let elsewhere = HostSeen { wanted: vec![], registry: said(&[&[]]), is_named: true, ..good() };
    assert_eq!((elsewhere.registration(), elsewhere.holds()), (Registration::NotNeeded, true));
    let named = HostSeen { registry: said(&[&[]]), is_named: true, ..good() };
    assert_eq!(named.registration(), Registration::NotNeeded, "found by its own domain");
    assert_eq!(HostSeen { is_named: false, ..elsewhere.clone() }.registration(), Registration::NotNeeded);
    // Where no addresses are wanted of it, nobody is asked to enter any.
    let torn = HostSeen { zone: said(&[&[V4], &[V6]]), registry: said(&[&[V4], &[V6]]), ..elsewhere.clone() };
    assert!(matches!(torn.in_zone(), InZone::Differs { servers: 1, .. }) && !torn.holds());
    assert_eq!(torn.next(), [NextStep::Wait], "servers of the registry that differ come together");
    let apart = HostSeen { registry: said(&[&["192.0.2.99"]]), wanted: vec![], zone: said(&[&[]]), ..good() };
    assert_eq!(apart.next(), []);
    let nowhere = HostSeen { zone: said(&[&[]]), ..elsewhere.clone() };
    assert_eq!((nowhere.registration(), nowhere.holds(), nowhere.next()), (Registration::Absent, false, vec![]));
    assert!(!HostSeen { servers: vec![], ..elsewhere.clone() }.holds(), "nobody was asked");
    assert_eq!(HostSeen { zone: vec![], ..elsewhere }.in_zone(), InZone::Unseen);
}
