use super::*;
use crate::account::AccountName;
use crate::name::Hostname;
use crate::render::{Serving, zone_stanza};
use crate::zone::{Document, ZonePlace};

fn now() -> Timestamp {
    "2026-11-28T12:00:00Z".parse().unwrap()
}

fn name() -> Hostname {
    Hostname::parse("gullrock.example").unwrap()
}

fn ds(key_tag: u16) -> Ds {
    Ds { key_tag, algorithm: 13, digest_type: 2, digest: vec![7; 32] }
}

fn loaded(signing: Option<Box<Signing>>) -> SigningLoaded {
    let text = "$TTL 60\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n";
    let zone = Zone { signing, ..Zone::new(name(), AccountName::parse("boatyard").unwrap(), ZoneHome::Here) };
    let path = Layout::new("/harbor").zone_file(&name());
    let serving = Serving { published: false, signed_by: zone.signed_by() };
    let list = zone_stanza(DnsServer::Bind, &name(), &path, serving);
    let document = Document::parse(text, &name().dns_name()).unwrap();
    SigningLoaded {
        kept: KeptZone { zone, document, place: ZonePlace::File { path } },
        zone_list: Some(list.into_bytes()),
        journal: Some(b"JOURNAL".to_vec()),
        served: Some(12),
        at_parent: Ok(ParentDs::default()),
    }
}

fn settings(server: DnsServer) -> Settings {
    let mut settings = Settings::default();
    settings.dns.server = server;
    settings
}

fn signing(seen: Option<DsSeen>) -> Option<Box<Signing>> {
    Some(Box::new(Signing { policy: "default".into(), seen }))
}

fn why(result: Result<Plan, ZoneRefusal>) -> SigningRefused {
    match result {
        Err(ZoneRefusal::Signing { why, .. }) => why,
        other => panic!("{other:?}"),
    }
}

#[test]
fn signing_is_switched_on_in_the_zone_list_alone() {
    let layout = Layout::new("/harbor");
    let plan = sign(&loaded(None), "default", &settings(DnsServer::Bind), &layout).unwrap();
    let part = plan.set.pending(&layout.zone_list_of(DnsServer::Bind, &name())).unwrap();
    assert!(String::from_utf8_lossy(part).contains("dnssec-policy \"default\"; inline-signing yes;"));
    let needs = plan.set.needs();
    assert!(needs.zone_list && needs.all_zones().next().is_none(), "the file stays");
    let again = sign(&loaded(signing(None)), "default", &settings(DnsServer::Bind), &layout).unwrap();
    assert_eq!(again.remarks, [Remark::Unchanged]);
    let other = sign(&loaded(signing(None)), "coast", &settings(DnsServer::Bind), &layout).unwrap();
    let part = other.set.pending(&layout.zone_list_of(DnsServer::Bind, &name())).unwrap();
    assert!(String::from_utf8_lossy(part).contains("dnssec-policy \"coast\""), "another policy");
}

#[test]
fn what_cannot_be_signed_there_is_refused() {
    let layout = Layout::new("/harbor");
    let with = |loaded: &SigningLoaded, settings: &Settings| why(sign(loaded, "default", settings, &layout));
    let bind = settings(DnsServer::Bind);
    assert_eq!(with(&loaded(None), &settings(DnsServer::Nsd)), SigningRefused::ServerSignsNothing("NSD"));
    let by_hand = SigningLoaded { zone_list: Some(b"zone \"gullrock.example\" { };\n".to_vec()), ..loaded(None) };
    assert_eq!(with(&by_hand, &bind), SigningRefused::OwnDefinition);
    let mut remembering = bind.clone();
    remembering.dns.new_zones = NewZones::Addzone;
    assert_eq!(with(&loaded(None), &remembering), SigningRefused::ServerRemembers);
    let mut remote = loaded(None);
    remote.kept.zone.home = ZoneHome::Remote;
    assert_eq!(with(&remote, &bind), SigningRefused::NotHere);
}

#[test]
fn it_is_switched_off_only_when_no_resolver_can_expect_signatures() {
    let layout = Layout::new("/harbor");
    let off = |loaded: &SigningLoaded| sign_no_more(loaded, &settings(DnsServer::Bind), &layout, now());
    let with = |at_parent| SigningLoaded { at_parent, ..loaded(signing(None)) };
    let unknown = with(Err("silent".to_string()));
    assert_eq!(why(off(&unknown)), SigningRefused::ParentUnknown("silent".into()));
    let there = with(Ok(ParentDs { ds: vec![ds(5)], ttl: 60 }));
    assert_eq!(why(off(&there)), SigningRefused::DsAtParent(vec![5]));
    let seen = |seconds_ago: i64| {
        let last = now().checked_sub(SignedDuration::from_secs(seconds_ago)).unwrap();
        loaded(signing(Some(DsSeen { tags: vec![], last: Some(last), ttl: 3600 })))
    };
    let until = now().checked_add(SignedDuration::from_secs(1)).unwrap();
    assert_eq!(why(off(&seen(3599))), SigningRefused::DsCached { until });
    for zone in [seen(3600), loaded(signing(None))] {
        let plan = off(&zone).unwrap();
        let part = plan.set.pending(&layout.zone_list_of(DnsServer::Bind, &name())).unwrap();
        assert!(!String::from_utf8_lossy(part).contains("dnssec"));
        let file = plan.set.pending(&layout.zone_file(&name())).unwrap();
        let serial = Document::parse(file, &name().dns_name()).unwrap().soa().serial;
        assert!(serial > 12, "above that of the signed form: {serial}");
        let journal = |change: &Change| matches!(change, Change::RemoveFile(removal) if removal.path == layout.zone_journal(&name()));
        assert!(plan.set.changes.iter().any(journal), "the journal of the signed zone goes");
    }
    assert_eq!(off(&loaded(None)).unwrap().remarks, [Remark::Unchanged]);
}

#[test]
fn what_is_new_at_the_parent_is_told_once_and_remembered() {
    let parent = |tags: &[u16]| ParentDs { ds: tags.iter().map(|tag| ds(*tag)).collect(), ttl: 3600 };
    let of = |seen: Option<DsSeen>, tags: &[u16], at| parent_news(&signing(seen).unwrap(), &parent(tags), at);
    assert_eq!(of(None, &[], now()), ParentNews::default());
    let first = of(None, &[7], now());
    assert_eq!((&first.published[..], &first.withdrawn[..]), (&[7][..], &[][..]));
    let seen = first.seen.unwrap();
    assert_eq!(seen, DsSeen { tags: vec![7], last: Some(now()), ttl: 3600 });
    assert_eq!(of(Some(seen.clone()), &[7], now()), ParentNews::default(), "nothing new");
    let later = now().checked_add(SignedDuration::from_hours(2)).unwrap();
    let fresh = of(Some(seen.clone()), &[7], later);
    assert!(fresh.published.is_empty() && fresh.seen.unwrap().last == Some(later));
    // A roll: both, then the new one alone; in the end none, and the time of the last one stays known.
    let both = of(Some(seen), &[9, 7], later).seen.unwrap();
    let rolled = of(Some(both), &[9], later);
    assert_eq!((&rolled.published[..], &rolled.withdrawn[..]), (&[][..], &[7][..]));
    let gone = of(rolled.seen, &[], later.checked_add(SignedDuration::from_hours(1)).unwrap());
    assert_eq!(gone.withdrawn, [9]);
    assert_eq!(gone.seen.unwrap(), DsSeen { tags: vec![], last: Some(later), ttl: 3600 });
}
