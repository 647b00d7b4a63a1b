//! Nameserver sets that come, change and go: what a moving server needs, and who would be left behind.

use super::*;
use crate::change::Change;
use crate::nameserver::Weakness;
use crate::zone::{Document, ZonePlace};

fn member(text: &str) -> Member {
    text.parse().unwrap()
}

fn now() -> Timestamp {
    "2026-11-27T12:00:00Z".parse().unwrap()
}

fn hostname(text: &str) -> Hostname {
    Hostname::parse(text).unwrap()
}

fn zones(home: ZoneHome) -> MemberZones {
    let text = "$TTL 900\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 600 A 192.0.2.53\n";
    let name = hostname("gullrock.example");
    let zone = Zone::new(name.clone(), AccountName::parse("boatyard").unwrap(), home);
    let document = Document::parse(text, &name.dns_name()).unwrap();
    let place = ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() };
    let kept = (home == ZoneHome::Here).then(|| KeptZone { zone: zone.clone(), document, place });
    MemberZones(vec![MemberZone { zone, kept }])
}

fn set() -> NameserverSet {
    set_of(&[member("ns1.gullrock.example=192.0.2.53"), member("ns2.quay.example")])
}

fn loaded() -> ChangeSetLoaded {
    ChangeSetLoaded { known: KnownSet::Own(set()), zones: zones(ZoneHome::Here), seen: vec![], domains: 3 }
}

fn unchanged() -> ChangeSet {
    ChangeSet { name: "own".into(), members: vec![], joining: vec![], leaving: vec![], capacity: None }
}

fn moved(to: &str) -> ChangeSet {
    ChangeSet { members: vec![member(&format!("ns1.gullrock.example={to}"))], ..unchanged() }
}

fn seen(outcome: Outcome) -> ReadySeen {
    let (nameserver, server) = (member("ns1.gullrock.example").name, "192.0.2.54:53".parse().unwrap());
    ReadySeen { nameserver, server, zone: hostname("crumbandtide.example"), outcome }
}

#[test]
fn a_server_that_moves_is_followed_by_its_zone_and_its_old_address_answers_on() {
    let plan = change_set(&moved("192.0.2.54"), &loaded(), now()).unwrap();
    let Remark::Nameserver(NameserverRemark::Moves(moving)) = &plan.remarks[0] else { panic!("{plan:?}") };
    assert_eq!(moving.zone, Some(hostname("gullrock.example")));
    // The TTL of the record that is there.
    assert_eq!(moving.cached_until.to_string(), "2026-11-27T12:10:00Z");
    let added = |remark: &Remark| matches!(remark, Remark::Zone(ZoneRemark::RecordAdded { .. }));
    assert_eq!(plan.remarks.iter().filter(|remark| added(remark)).count(), 1);
    assert_eq!(plan.remarks.last(), Some(&NameserverRemark::Delegated { set: "own".into(), domains: 3 }.into()));
    assert_eq!(plan.set.changes.len(), 2);
    assert!(plan.consents.is_empty());
    let without = ChangeSetLoaded { zones: MemberZones::default(), ..loaded() };
    let plan = change_set(&moved("192.0.2.54"), &without, now()).unwrap();
    let Remark::Nameserver(NameserverRemark::Moves(moving)) = &plan.remarks[0] else { panic!("{plan:?}") };
    assert_eq!(moving.cached_until.to_string(), "2026-11-29T12:00:00Z");
}

#[test]
fn a_server_that_does_not_serve_at_its_new_address_needs_a_consent() {
    let silent = ChangeSetLoaded { seen: vec![seen(Outcome::Silent)], ..loaded() };
    let plan = change_set(&moved("192.0.2.54"), &silent, now()).unwrap();
    assert!(matches!(&plan.consents[..], [Consent::ServerNotReady { .. }]));
    let reply = |authoritative, rcode| Outcome::Reply(Reply { authoritative, rcode, ..Reply::default() });
    for (outcome, consents) in
        [(reply(true, Reply::NOERROR), 0), (reply(false, Reply::NOERROR), 1), (reply(true, 5), 1)]
    {
        let loaded = ChangeSetLoaded { seen: vec![seen(outcome)], ..loaded() };
        assert_eq!(change_set(&moved("192.0.2.54"), &loaded, now()).unwrap().consents.len(), consents);
    }
}

#[test]
fn what_is_as_asked_for_changes_nothing_and_sets_of_the_settings_are_changed_there() {
    let plan = change_set(&moved("192.0.2.53"), &loaded(), now()).unwrap();
    assert!(plan.is_empty() && plan.remarks == [Remark::Unchanged]);
    let known = |known| change_set(&moved("192.0.2.54"), &ChangeSetLoaded { known, ..loaded() }, now());
    assert_eq!(known(KnownSet::OfSettings), Err(NameserverRefusal::InSettings("own".into())));
    assert_eq!(known(KnownSet::Unknown), Err(NameserverRefusal::Unknown("own".into())));
    let strange = ChangeSet { members: vec![member("ns9.gullrock.example=192.0.2.9")], ..moved("192.0.2.1") };
    assert!(matches!(change_set(&strange, &loaded(), now()), Err(NameserverRefusal::UnknownMember { .. })));
    let larger = ChangeSet { capacity: Some(9), ..unchanged() };
    let plan = change_set(&larger, &loaded(), now()).unwrap();
    assert_eq!(plan.remarks[0], NameserverRemark::Capacity { set: "own".into(), domains: 9 }.into());
}

#[test]
fn nameservers_join_and_leave_a_set_and_the_last_one_stays() {
    let after = |request: &ChangeSet, loaded: &ChangeSetLoaded| {
        let plan = change_set(request, loaded, now()).unwrap();
        let Some(Change::Inventory { to: InventoryChange::SetNameservers { after, .. } }) = plan.set.changes.last()
        else {
            panic!("{plan:?}")
        };
        (after.clone(), plan)
    };
    let joins = ChangeSet { joining: vec![member("ns3.gullrock.example=192.0.2.55")], ..unchanged() };
    let (set_then, plan) = after(&joins, &loaded());
    assert_eq!(set_then.nameservers.last(), Some(&member("ns3.gullrock.example").name));
    assert_eq!(set_then.addresses[&member("ns3.gullrock.example").name].len(), 1);
    let added = |remark: &Remark| matches!(remark, Remark::Zone(ZoneRemark::RecordAdded { .. }));
    assert!(plan.remarks.iter().any(added), "its address comes into the zone");
    let joined = |remark: &Remark| matches!(remark, Remark::Nameserver(NameserverRemark::Joins { domains: 3, .. }));
    assert!(joined(&plan.remarks[0]), "{plan:?}");
    // What joins without address has to resolve by itself; inside a zone here that cannot be.
    let bare = ChangeSet { joining: vec![member("ns3.quay.example")], ..unchanged() };
    assert!(!after(&bare, &loaded()).0.addresses.contains_key(&member("ns3.quay.example").name));
    let inside = ChangeSet { joining: vec![member("ns3.gullrock.example")], ..unchanged() };
    assert!(matches!(change_set(&inside, &loaded(), now()), Err(NameserverRefusal::NoAddress { .. })));
    // One that is there already has joined.
    let again = ChangeSet { joining: vec![member("ns1.gullrock.example=192.0.2.53")], ..unchanged() };
    assert!(change_set(&again, &loaded(), now()).unwrap().is_empty());
    let there = ChangeSet { joining: vec![member("ns2.quay.example")], ..unchanged() };
    assert!(change_set(&there, &loaded(), now()).unwrap().is_empty());

    let leaves = ChangeSet { leaving: vec![member("ns1.gullrock.example").name], ..unchanged() };
    let (set_then, plan) = after(&leaves, &loaded());
    assert_eq!(set_then, set_of(&[member("ns2.quay.example")]));
    assert!(!plan.remarks.iter().any(|remark| matches!(remark, Remark::Zone(_))), "its address records stay");
    let only = Weakness::OnlyOne(member("ns2.quay.example").name);
    assert!(plan.remarks.contains(&NameserverRemark::Weakness(only).into()));
    let all = ChangeSet { leaving: set().nameservers, ..unchanged() };
    assert_eq!(change_set(&all, &loaded(), now()), Err(NameserverRefusal::NoneLeft { set: "own".into() }));
    let strange = ChangeSet { leaving: vec![member("ns9.quay.example").name], ..unchanged() };
    assert!(matches!(change_set(&strange, &loaded(), now()), Err(NameserverRefusal::UnknownMember { .. })));
    // One for another in one go.
    let both = ChangeSet { leaving: set().nameservers, ..joins };
    assert_eq!(after(&both, &loaded()).0, set_of(&[member("ns3.gullrock.example=192.0.2.55")]));
}

#[test]
fn a_new_set_brings_its_addresses_and_says_what_the_registrar_needs() {
    let request = |members: &[&str]| AddSet {
        name: AccountName::parse("own").unwrap(),
        members: members.iter().map(|text| member(text)).collect(),
        account: None,
        capacity: None,
    };
    let both = request(&["ns1.gullrock.example=192.0.2.60", "ns2.quay.example=198.51.100.1"]);
    let plan = add_set(&both, &KnownSet::Unknown, false, &zones(ZoneHome::Here), now()).unwrap();
    let hosts = |remark: &&Remark| matches!(remark, Remark::Nameserver(NameserverRemark::RegisterHost { .. }));
    assert_eq!((plan.remarks.iter().filter(hosts).count(), plan.set.changes.len()), (2, 2));
    let elsewhere = add_set(&both, &KnownSet::Unknown, false, &zones(ZoneHome::Elsewhere), now()).unwrap();
    let enter = |remark: &&Remark| matches!(remark, Remark::Nameserver(NameserverRemark::EnterElsewhere { .. }));
    assert_eq!((elsewhere.remarks.iter().filter(enter).count(), elsewhere.set.changes.len()), (1, 1));
    let bare = request(&["ns1.gullrock.example"]);
    let refused = add_set(&bare, &KnownSet::Unknown, false, &zones(ZoneHome::Here), now()).unwrap_err();
    assert!(matches!(refused, NameserverRefusal::NoAddress { .. }));
    assert!(add_set(&bare, &KnownSet::OfSettings, false, &MemberZones::default(), now()).is_err());
    let owned = AddSet { account: AccountName::parse("nobody").ok(), ..both };
    let refused = add_set(&owned, &KnownSet::Unknown, false, &MemberZones::default(), now()).unwrap_err();
    assert!(matches!(refused, NameserverRefusal::UnknownAccount(_)));
}

#[test]
fn a_set_in_use_stays() {
    let known = KnownSet::Own(set());
    let in_use = NameserverRefusal::InUse { set: "own".into(), zones: 0, accounts: 1 };
    assert_eq!(remove_set("own", &known, 0, 1), Err(in_use));
    assert_eq!(remove_set("own", &known, 0, 0).unwrap().set.changes.len(), 1);
}
