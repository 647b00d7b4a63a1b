//! Attaching, decided on small harbors: what comes out for each kind, and every refusal.

use std::path::Path;

use super::*;
use crate::change::{Change, Remark};
use crate::harbor::{DnsServer, WebServer};
use crate::name::DnsName;
use crate::site::{HttpsState, HttpsStates, SiteKind};
use crate::zone::{
    Document, Mail, NewZoneRefused, PatternError, TemplateError, TemplateName, ZoneHome, ZonePlace, ZoneRemark,
};

fn hostname(text: &str) -> Host {
    Host::parse(text).unwrap()
}

fn domain(text: &str) -> Hostname {
    Hostname::parse(text).unwrap()
}

fn account(name: &str) -> Account {
    let (email, home) = (format!("{name}@saltmarsh.example"), format!("/home/{name}"));
    Account::new(AccountName::parse(name).unwrap(), email, home)
}

fn settings() -> Settings {
    let mut settings = Settings::default();
    settings.host.addresses = vec!["192.0.2.10".parse().unwrap(), "2001:db8::10".parse().unwrap()];
    settings.host.nameservers =
        ["ns1", "ns2"].map(|n| DnsName::absolute(&format!("{n}.saltmarsh.example")).unwrap()).to_vec();
    settings.web.server = WebServer::Nginx;
    settings.dns.server = DnsServer::Bind;
    settings.ca.directory = Some("https://ca.saltmarsh.example/directory".into());
    settings
}

fn empty() -> AttachLoaded {
    AttachLoaded {
        account: Some(account("bakery")),
        related: vec![],
        shown_domain: None,
        zone: None,
        new_zone: NewZoneFiles::default(),
        site_file: None,
        by_hand: None,
        answered: None,
        clash: None,
        is_first: true,
        joined: None,
        root_is_there: false,
        root_is_open: false,
        shares_root: None,
        own: None,
        near_miss: None,
    }
}

fn decide(name: &str, loaded: &AttachLoaded, settings: &Settings) -> Result<Attachment, SiteRefusal> {
    let request = AttachRequest {
        hostname: hostname(name),
        account: AccountName::parse("bakery").unwrap(),
        zone: ZoneChoice::Here,
        design: ZoneDesign::plain(Mail::Unsaid),
        www: None,
        place: ServedFrom::new_root(),
        content: Default::default(),
    };
    let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
    attach(&request, loaded, settings, &Layout::new("/harbor"), now)
}

fn lines(attachment: &Attachment) -> Vec<String> {
    attachment.plan.set.changes.iter().map(Change::line).collect()
}

fn zone_of(loaded: &mut AttachLoaded, text: &str, owner: &str) {
    let account = AccountName::parse(owner).unwrap();
    let zone = Zone::new(domain("crumbandtide.example"), account, ZoneHome::Here);
    let document = Document::parse(text, &zone.name.dns_name()).unwrap();
    let place = ZonePlace::File { path: "/harbor/zones/crumbandtide.example.zone".into() };
    loaded.zone = Some(ZoneLoaded::Kept(Box::new(KeptZone { zone, document, place })));
}

const ZONE: &str =
    "$TTL 900\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n@ A 192.0.2.10\n";

#[test]
fn an_addon_domain_brings_its_twin_its_zone_and_its_site() {
    let decided = decide("CrumbAndTide.example", &empty(), &settings()).unwrap();
    assert_eq!(
        lines(&decided),
        [
            "make /home/bakery/www/crumbandtide.example, with a starter page if it is empty",
            "write /harbor/zones/crumbandtide.example.zone (644)",
            "write /harbor/servers/bind/parts/e9.conf (644)",
            "inventory: remember what the template `default` gives now",
            "inventory: add zone crumbandtide.example",
            "write /harbor/servers/nginx/crumbandtide.example.conf (644)",
            "inventory: add addon domain crumbandtide.example of bakery",
        ]
    );
    assert_eq!(decided.site.hostnames, [hostname("crumbandtide.example"), hostname("www.crumbandtide.example")]);
    let www = decide("www.crumbandtide.example", &empty(), &settings()).unwrap();
    assert_eq!((decided.site, decided.plan), (www.site, www.plan));
}

#[test]
fn a_domain_that_holds_its_own_nameservers_gets_their_addresses() {
    let mut own = settings();
    for (name, address) in [("ns1", "192.0.2.53"), ("ns2", "2001:db8::53")] {
        let name = DnsName::absolute(&format!("{name}.saltmarsh.example")).unwrap();
        own.host.nameserver_addresses.insert(name, vec![address.parse().unwrap()]);
    }
    let decided = decide("saltmarsh.example", &empty(), &own).unwrap();
    let Change::WriteFile(write) = &decided.plan.set.changes[1] else { panic!("{:?}", decided.plan.set) };
    let text = String::from_utf8_lossy(&write.content).into_owned();
    let glue = "ns1.saltmarsh.example.\tIN\tA\t192.0.2.53\nns2.saltmarsh.example.\tIN\tAAAA\t2001:db8::53\n";
    assert!(text.contains(glue), "{text}");
    let zone = Document::parse(text, &DnsName::absolute("saltmarsh.example").unwrap()).unwrap();
    assert_eq!(crate::zone::rules::judge_loading(&zone), []);
}

#[test]
fn the_harbors_own_template_is_used_and_one_that_no_server_would_load_is_refused() {
    let mut loaded = empty();
    let template = "$TTL 60\n@ SOA {{primary}} {{hostmaster}} {{serial}} 4h 30m 4w 5m\n@ NS {{nameserver}}\n@ CAA 0 issue \"ca.example\"\n";
    loaded.new_zone.template = Some(template.as_bytes().to_vec());
    let decided = decide("crumbandtide.example", &loaded, &settings()).unwrap();
    let Change::WriteFile(write) = &decided.plan.set.changes[1] else { panic!("{:?}", decided.plan.set) };
    assert!(String::from_utf8_lossy(&write.content).contains("@ NS ns2.saltmarsh.example.\n@ CAA 0 issue"));
    loaded.new_zone.template = Some(template.replace("@ NS {{nameserver}}\n", "").into_bytes());
    let refused = decide("crumbandtide.example", &loaded, &settings()).unwrap_err();
    assert!(
        matches!(&refused, SiteRefusal::NewZone(NewZoneRefused::Unsound(finding)) if finding.code == "no-nameserver"),
        "{refused:?}"
    );
    loaded.new_zone.template = Some(vec![0xff]);
    assert_eq!(
        decide("crumbandtide.example", &loaded, &settings()).unwrap_err(),
        SiteRefusal::NewZone(PatternError::NotText(TemplateName::default()).into())
    );
}

#[test]
fn a_subdomain_goes_into_the_enclosing_zone_with_the_ttl_used_there() {
    let mut loaded = empty();
    zone_of(&mut loaded, ZONE, "bakery");
    let decided = decide("shop.crumbandtide.example", &loaded, &settings()).unwrap();
    assert_eq!(decided.site.kind, SiteKind::Subdomain);
    assert_eq!(decided.site.hostnames.len(), 1, "no www twin below a domain");
    let Change::WriteFile(write) = &decided.plan.set.changes[1] else { panic!("{:?}", decided.plan.set) };
    let text = String::from_utf8_lossy(&write.content).into_owned();
    assert_eq!(
        text,
        ZONE.replace(" 7 4h", " 8 4h") + "shop\t900\tIN\tA\t192.0.2.10\nshop\t900\tIN\tAAAA\t2001:db8::10\n"
    );
    assert_eq!(write.before.as_deref(), Some(ZONE.as_bytes()));
}

#[test]
fn addresses_that_stand_in_the_zone_are_kept_and_said() {
    let mut loaded = empty();
    zone_of(&mut loaded, &format!("{ZONE}shop A 192.0.2.99\n"), "bakery");
    let decided = decide("shop.crumbandtide.example", &loaded, &settings()).unwrap();
    assert!(!lines(&decided).iter().any(|line| line.contains(".zone")), "{:?}", lines(&decided));
    let (zone, hostname) = (domain("crumbandtide.example"), domain("shop.crumbandtide.example"));
    assert_eq!(decided.plan.remarks[1], ZoneRemark::AddressesKept { zone, hostname }.into());
}

#[test]
fn a_subdomain_without_zone_here_gets_no_zone() {
    let decided = decide("shop.gullrock.example", &empty(), &settings()).unwrap();
    assert!(!lines(&decided).iter().any(|line| line.contains("zone")), "{:?}", lines(&decided));
}

#[test]
fn a_domain_on_a_primary_elsewhere_gets_its_addresses_by_one_update() {
    let zone = Zone {
        primary: Some("quay".into()),
        ..Zone::new(domain("gullrock.example"), account("bakery").name, ZoneHome::Remote)
    };
    let document = Document::parse(ZONE.replace("@ A 192.0.2.10\n", ""), &zone.name.dns_name()).unwrap();
    let place = ZonePlace::Primary { server: "192.0.2.53:53".parse().unwrap(), key_file: "/key".into() };
    let mut loaded = empty();
    loaded.zone = Some(ZoneLoaded::Kept(Box::new(KeptZone { zone, document, place })));
    let request = AttachRequest {
        hostname: hostname("gullrock.example"),
        account: account("bakery").name,
        zone: ZoneChoice::Remote("quay".into()),
        design: ZoneDesign::plain(Mail::Unsaid),
        www: None,
        place: ServedFrom::new_root(),
        content: Default::default(),
    };
    let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
    let decided = attach(&request, &loaded, &settings(), &Layout::new("/harbor"), now).unwrap();
    let all = lines(&decided);
    assert!(all.contains(&"inventory: add zone gullrock.example".to_string()), "{all:?}");
    let update = "update gullrock.example at 192.0.2.53:53: 0 records removed, 4 added".to_string();
    assert!(all.contains(&update) && !all.iter().any(|line| line.contains("zones/")), "{all:?}");
}

#[test]
fn below_a_cut_of_our_zone_the_records_are_somebody_elses() {
    let mut loaded = empty();
    zone_of(&mut loaded, &format!("{ZONE}lab NS ns.oldquay.example.\nquay A 192.0.2.9\n"), "bakery");
    let decided = decide("a.lab.crumbandtide.example", &loaded, &settings()).unwrap();
    assert!(!lines(&decided).iter().any(|line| line.contains("crumbandtide.example.zone")), "{:?}", lines(&decided));
    let told = Remark::Zone(ZoneRemark::KeptElsewhere { zone: domain("lab.crumbandtide.example") });
    assert!(decided.plan.remarks.contains(&told), "{:?}", decided.plan.remarks);
    let beside = decide("slab.crumbandtide.example", &loaded, &settings()).unwrap();
    assert!(lines(&beside).iter().any(|line| line.contains("crumbandtide.example.zone")));
}

#[test]
fn a_zone_begins_where_the_dns_shows_it_whatever_the_list_guesses() {
    let shown = |name: &str| AttachLoaded { shown_domain: Some(domain(name)), ..empty() };
    let own = decide("windlass.co.test", &shown("windlass.co.test"), &settings()).unwrap();
    assert!(lines(&own).contains(&"inventory: add zone windlass.co.test".to_string()), "{:?}", lines(&own));
    let elsewhere = decide("crane.windlass.co.test", &shown("windlass.co.test"), &settings()).unwrap();
    let told = Remark::Zone(ZoneRemark::KeptElsewhere { zone: domain("windlass.co.test") });
    assert!(elsewhere.plan.remarks.contains(&told), "{:?}", elsewhere.plan.remarks);
    // A public suffix that somebody has, too.
    assert!(matches!(decide("co.uk", &empty(), &settings()), Err(SiteRefusal::PublicSuffix(_))));
    assert!(
        lines(&decide("co.uk", &shown("co.uk"), &settings()).unwrap())
            .contains(&"inventory: add zone co.uk".to_string())
    );
}

#[test]
fn refusals_say_as_what_and_to_whom() {
    let mut loaded = empty();
    let taken = decide("crumbandtide.example", &empty(), &settings()).unwrap().site;
    loaded.related = vec![Site { account: AccountName::parse("choir").unwrap(), ..taken }];
    assert_eq!(
        decide("www.crumbandtide.example", &loaded, &settings()).unwrap_err(),
        SiteRefusal::AlreadyAttached {
            hostname: hostname("crumbandtide.example"),
            kind: SiteKind::AddonDomain,
            account: AccountName::parse("choir").unwrap(),
            document_root: "/home/bakery/www/crumbandtide.example".into(),
        }
    );
    assert_eq!(
        decide("shop.crumbandtide.example", &loaded, &settings()).unwrap_err(),
        SiteRefusal::SomebodyElses {
            hostname: hostname("shop.crumbandtide.example"),
            domain: hostname("crumbandtide.example"),
            owner: AccountName::parse("choir").unwrap(),
        }
    );
    let mut loaded = empty();
    zone_of(&mut loaded, ZONE, "choir");
    assert!(matches!(
        decide("shop.crumbandtide.example", &loaded, &settings()),
        Err(SiteRefusal::SomebodyElses { .. })
    ));
}

#[test]
fn what_cannot_be_done_is_refused_before_anything_happens() {
    let refused = |name: &str, loaded: &AttachLoaded, settings: &Settings| decide(name, loaded, settings).unwrap_err();
    assert!(matches!(refused("co.uk", &empty(), &settings()), SiteRefusal::PublicSuffix(_)));
    let nobody = AttachLoaded { account: None, ..empty() };
    assert!(matches!(refused("a.example", &nobody, &settings()), SiteRefusal::UnknownAccount(_)));
    let in_the_way = AttachLoaded { site_file: Some(vec![]), ..empty() };
    assert!(matches!(refused("a.example", &in_the_way, &settings()), SiteRefusal::InTheWay(_)));
    let zone_in_the_way =
        AttachLoaded { new_zone: NewZoneFiles { zone_file: Some(vec![]), ..NewZoneFiles::default() }, ..empty() };
    assert!(matches!(
        refused("a.example", &zone_in_the_way, &settings()),
        SiteRefusal::NewZone(NewZoneRefused::InTheWay(_))
    ));
    let mut nowhere = settings();
    nowhere.host.addresses.clear();
    assert_eq!(refused("a.example", &empty(), &nowhere), SiteRefusal::NoAddresses);
    assert!(matches!(
        refused("saltmarsh.example", &empty(), &settings()),
        SiteRefusal::NewZone(NewZoneRefused::Template(TemplateError::NameserverAddress(_)))
    ));
    let mut outside = settings();
    outside.sites.document_root = "/srv/{hostname}".into();
    assert!(matches!(refused("a.example", &empty(), &outside), SiteRefusal::OutsideHome { .. }));
    let mut alias = empty();
    zone_of(&mut alias, &format!("{ZONE}shop CNAME elsewhere.example.\n"), "bakery");
    assert!(matches!(refused("shop.crumbandtide.example", &alias, &settings()), SiteRefusal::ZoneRefuses { .. }));
}

fn asked(hostname: &str, place: ServedFrom, www: Option<WwwPolicy>) -> AttachRequest {
    AttachRequest {
        hostname: Host::parse(hostname).unwrap(),
        account: account("bakery").name,
        zone: ZoneChoice::Here,
        design: ZoneDesign::plain(Mail::Unsaid),
        www,
        place,
        content: Default::default(),
    }
}

fn decided(request: &AttachRequest, loaded: &AttachLoaded) -> Result<Attachment, SiteRefusal> {
    attach(request, loaded, &settings(), &Layout::new("/harbor"), Timestamp::UNIX_EPOCH)
}

#[test]
fn www_comes_along_as_it_was_asked_for() {
    let names = |hostname: &str, www| {
        wanted_names(&Host::parse(hostname).unwrap(), www).iter().map(Host::to_string).collect::<Vec<_>>()
    };
    assert_eq!(names("gullrock.example", Some(WwwPolicy::None)), ["gullrock.example"]);
    assert_eq!(names("www.gullrock.example", Some(WwwPolicy::None)), ["www.gullrock.example"]);
    assert_eq!(names("shop.gullrock.example", None), ["shop.gullrock.example"]);
    let asked_for = names("shop.gullrock.example", Some(WwwPolicy::ToBare));
    assert_eq!(asked_for, ["shop.gullrock.example", "www.shop.gullrock.example"]);
    let to_www = decided(&asked("gullrock.example", ServedFrom::new_root(), Some(WwwPolicy::ToWww)), &empty()).unwrap();
    assert_eq!(to_www.site.sent_to(&hostname("gullrock.example")), Some(hostname("www.gullrock.example")));
}

#[test]
fn a_given_document_root_lies_inside_the_home_and_is_new_unless_said_otherwise() {
    let given = |path: &str, existing| ServedFrom::OwnRoot { given: Some(path.into()), existing };
    let root = |place, loaded: &AttachLoaded| {
        decided(&asked("gullrock.example", place, None), loaded).map(|decision| decision.site.document_root)
    };
    assert_eq!(root(given("public/boats", false), &empty()).unwrap(), Path::new("/home/bakery/public/boats"));
    assert_eq!(root(given("/home/bakery/x", false), &empty()).unwrap(), Path::new("/home/bakery/x"));
    assert!(matches!(root(given("/home/choir/x", false), &empty()), Err(SiteRefusal::OutsideHome { .. })));
    assert!(matches!(root(given("../choir", false), &empty()), Err(SiteRefusal::Path(_))));
    let there = AttachLoaded { root_is_there: true, shares_root: Some(hostname("a.example")), ..empty() };
    assert!(matches!(root(given("x", false), &there), Err(SiteRefusal::RootIsThere(_))));
    let decision = decided(&asked("gullrock.example", given("x", true), None), &there).unwrap();
    let shares = |remark: &Remark| matches!(remark, Remark::Site(SiteRemark::SharesRoot { with, .. }) if *with == hostname("a.example"));
    assert!(decision.plan.remarks.iter().any(shares), "{:?}", decision.plan.remarks);
}

#[test]
fn an_alias_domain_joins_a_site_and_lowers_nothing_that_its_names_have() {
    let mut site = decide("crumbandtide.example", &empty(), &settings()).unwrap().site;
    site.https = HttpsStates::all(&site.hostnames, HttpsState::Forced);
    let loaded = AttachLoaded { joined: Some((site.clone(), Some(b"old".to_vec()))), ..empty() };
    let place = ServedFrom::SameAs(site.main().clone());
    let decision = decided(&asked("gullrock.example", place.clone(), None), &loaded).unwrap();
    assert_eq!((decision.site.hostnames.len(), &decision.site.https), (4, &site.https));
    assert_eq!(decision.site.https_of(&hostname("gullrock.example")), HttpsState::None);
    let all = lines(&decision);
    assert!(all.contains(&"change /harbor/servers/nginx/crumbandtide.example.conf (644)".to_string()), "{all:?}");
    assert!(all.iter().any(|line| line == "inventory: add zone gullrock.example"), "{all:?}");
    let alone = decided(&asked("gullrock.example", place, None), &empty());
    assert!(matches!(alone, Err(SiteRefusal::NotAttached(_))));
}

#[test]
fn a_name_that_somebody_else_serves_gets_an_alias_that_does_not_lead_back() {
    let mut loaded = empty();
    zone_of(&mut loaded, &format!("{ZONE}b CNAME cdn\n"), "bakery");
    let to = |target: &str| ServedFrom::Elsewhere(DnsName::absolute(target).unwrap());
    let decision = decided(&asked("cdn.crumbandtide.example", to("edge.network.example"), None), &loaded).unwrap();
    assert_eq!(lines(&decision), ["change /harbor/zones/crumbandtide.example.zone (644)"]);
    let back = decided(&asked("cdn.crumbandtide.example", to("b.crumbandtide.example"), None), &loaded);
    assert!(matches!(back, Err(SiteRefusal::LeadsBack(..))));
    let apex = decided(&asked("crumbandtide.example", to("edge.network.example"), None), &loaded);
    assert!(matches!(apex, Err(SiteRefusal::AliasAtApex(_))));
    let nowhere = decided(&asked("cdn.gullrock.example", to("edge.network.example"), None), &empty());
    assert!(matches!(nowhere, Err(SiteRefusal::NoZone(_))));
}

#[test]
fn below_a_domain_of_the_provider_every_account_may_have_a_name() {
    let mut loaded = empty();
    zone_of(&mut loaded, ZONE, "choir");
    let mut provided = settings();
    provided.sites.provider_domains = vec![domain("crumbandtide.example")];
    let decided = decide("hall.crumbandtide.example", &loaded, &provided).unwrap();
    assert!(lines(&decided).contains(&"change /harbor/zones/crumbandtide.example.zone (644)".to_string()));
    assert!(matches!(decide("crumbandtide.example", &loaded, &provided), Err(SiteRefusal::SomebodyElses { .. })));
    assert!(decide("hall.crumbandtide.example", &loaded, &settings()).is_err());
}

#[test]
fn a_domain_without_a_site_is_a_zone_without_addresses() {
    let decision = decided(&asked("gullrock.example", ServedFrom::Nowhere, None), &empty()).unwrap();
    let all = lines(&decision);
    assert!(all.contains(&"inventory: add zone gullrock.example".to_string()), "{all:?}");
    assert!(!all.iter().any(|line| line.contains("site") || line.contains("make ")), "{all:?}");
    let Change::WriteFile(write) = &decision.plan.set.changes[0] else { panic!("{all:?}") };
    assert!(!String::from_utf8_lossy(&write.content).contains("192.0.2.10"));
    let below = decided(&asked("a.gullrock.example", ServedFrom::Nowhere, None), &empty());
    assert!(matches!(below, Err(SiteRefusal::NothingToServe(_))));
}

#[test]
fn a_plan_counts_what_each_request_adds() {
    use crate::account::{AccountPlan, Limits, Usage};
    let request = |name: &str, place: ServedFrom| AttachRequest {
        hostname: hostname(name),
        account: account("bakery").name,
        zone: ZoneChoice::Here,
        design: ZoneDesign::plain(Mail::Unsaid),
        www: None,
        place,
        content: Default::default(),
    };
    let limit = |limits: Limits| Some((AccountPlan { name: account("small").name, limits }, Usage::default()));
    let own = request("gullrock.example", ServedFrom::new_root());
    let below = request("shop.gullrock.example", ServedFrom::new_root());
    let alias = request("quay.example", ServedFrom::SameAs(hostname("gullrock.example")));
    let preview = preview_of(&own, &domain("saltmarsh.example")).unwrap();
    assert_eq!(preview.hostname, hostname("gullrock-example.saltmarsh.example"));
    let all = [own.clone(), below, alias, preview];
    let one = Limits { addon_domains: Some(1), subdomains: Some(1), alias_domains: Some(1), ..Limits::default() };
    assert_eq!(refuse_beyond_plan(&all, limit(one).as_ref()), Ok(()));
    for less in [
        Limits { addon_domains: Some(0), ..one },
        Limits { subdomains: Some(0), ..one },
        Limits { alias_domains: Some(0), ..one },
    ] {
        let refused = refuse_beyond_plan(&all, limit(less).as_ref());
        assert!(matches!(refused, Err(SiteRefusal::Limit(_))), "{less:?}");
    }
    let twice = [own.clone(), request("lanternchoir.example", ServedFrom::new_root())];
    assert!(refuse_beyond_plan(&twice, limit(one).as_ref()).is_err());
    assert_eq!(refuse_beyond_plan(&twice, None), Ok(()));
}

#[test]
fn a_name_one_slip_away_from_a_known_one_is_remarked_upon() {
    let near = AttachLoaded { near_miss: Some(domain("crumbandtide.example")), ..empty() };
    let decided = decide("crumbandtde.example", &near, &settings()).unwrap();
    let slip = |remark: &Remark| matches!(remark, Remark::Site(SiteRemark::NearMiss { .. }));
    assert!(decided.plan.remarks.iter().any(slip));
}

#[test]
fn a_listener_that_takes_our_visitors_is_refused_and_one_that_loses_its_own_is_asked_about_once() {
    use crate::render::{Clash, ClashKind};
    let address = "192.0.2.10".parse().unwrap();
    let with = |kind, is_first| {
        let clash = Some(("/etc/nginx/nginx.conf".into(), Clash { line: 7, port: 80, kind }));
        decide("crumbandtide.example", &AttachLoaded { clash, is_first, ..empty() }, &settings())
    };
    assert!(matches!(with(ClashKind::TakesOurs(address), false), Err(SiteRefusal::ListenerTakesOurs { line: 7, .. })));
    let consents = |is_first| with(ClashKind::LosesTheirs(address), is_first).unwrap().plan.consents.len();
    assert_eq!((consents(true), consents(false)), (1, 0));
}
