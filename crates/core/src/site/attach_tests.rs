//! Attaching, decided on small harbors: what comes out for each kind, and every refusal.

use std::path::Path;

use super::*;
use crate::change::Change;
use crate::harbor::{DnsServer, WebServer};
use crate::name::DnsName;
use crate::site::{HttpsState, SiteKind};
use crate::zone::ZonePlace;
use crate::zone::{Document, Mail, PatternError, TemplateError, TemplateName};

fn hostname(text: &str) -> Hostname {
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
        zone: None,
        new_zone: NewZoneFiles::default(),
        site_file: None,
        joined: None,
        root_is_there: false,
        shares_root: None,
    }
}

fn decide(name: &str, loaded: &AttachLoaded, settings: &Settings) -> Result<Attachment, AttachRefused> {
    let request = AttachRequest {
        hostname: hostname(name),
        account: AccountName::parse("bakery").unwrap(),
        zone: ZoneChoice::Here,
        design: ZoneDesign::plain(Mail::Unsaid),
        www: None,
        place: ServedFrom::new_root(),
    };
    let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
    attach(&request, loaded, settings, &Layout::new("/harbor"), now)
}

fn lines(attachment: &Attachment) -> Vec<String> {
    attachment.change_set.changes.iter().map(Change::line).collect()
}

fn zone_of(loaded: &mut AttachLoaded, text: &str, owner: &str) {
    let account = AccountName::parse(owner).unwrap();
    let zone = Zone::new(hostname("crumbandtide.example"), account, ZoneHome::Here);
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
            "inventory: remember to get a certificate for crumbandtide.example",
        ]
    );
    assert_eq!(decided.site.hostnames, [hostname("crumbandtide.example"), hostname("www.crumbandtide.example")]);
    assert_eq!(decided, decide("www.crumbandtide.example", &empty(), &settings()).unwrap().with_said_of(&decided));
}

impl Attachment {
    fn with_said_of(mut self, other: &Attachment) -> Self {
        self.said = other.said.clone();
        self
    }
}

impl PartialEq for Attachment {
    fn eq(&self, other: &Self) -> bool {
        self.site == other.site && self.change_set == other.change_set && self.said == other.said
    }
}

#[test]
fn a_domain_that_holds_its_own_nameservers_gets_their_addresses() {
    let mut own = settings();
    for (name, address) in [("ns1", "192.0.2.53"), ("ns2", "2001:db8::53")] {
        let name = DnsName::absolute(&format!("{name}.saltmarsh.example")).unwrap();
        own.host.nameserver_addresses.insert(name, vec![address.parse().unwrap()]);
    }
    let decided = decide("saltmarsh.example", &empty(), &own).unwrap();
    let Change::WriteFile(write) = &decided.change_set.changes[1] else { panic!("{:?}", decided.change_set) };
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
    let Change::WriteFile(write) = &decided.change_set.changes[1] else { panic!("{:?}", decided.change_set) };
    assert!(String::from_utf8_lossy(&write.content).contains("@ NS ns2.saltmarsh.example.\n@ CAA 0 issue"));
    loaded.new_zone.template = Some(template.replace("@ NS {{nameserver}}\n", "").into_bytes());
    let refused = decide("crumbandtide.example", &loaded, &settings()).unwrap_err();
    assert!(
        matches!(&refused, AttachRefused::NewZone(NewZoneRefused::Unsound(finding)) if finding.code == "no-nameserver"),
        "{refused}"
    );
    loaded.new_zone.template = Some(vec![0xff]);
    assert_eq!(
        decide("crumbandtide.example", &loaded, &settings()).unwrap_err(),
        AttachRefused::NewZone(PatternError::NotText(TemplateName::default()).into())
    );
}

#[test]
fn a_subdomain_goes_into_the_enclosing_zone_with_the_ttl_used_there() {
    let mut loaded = empty();
    zone_of(&mut loaded, ZONE, "bakery");
    let decided = decide("shop.crumbandtide.example", &loaded, &settings()).unwrap();
    assert_eq!(decided.site.kind, SiteKind::Subdomain);
    assert_eq!(decided.site.hostnames.len(), 1, "no www twin below a domain");
    let Change::WriteFile(write) = &decided.change_set.changes[1] else { panic!("{:?}", decided.change_set) };
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
    assert!(decided.said[1].contains("addresses for shop.crumbandtide.example already"), "{:?}", decided.said);
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
        ..Zone::new(hostname("gullrock.example"), account("bakery").name, ZoneHome::Remote)
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
    };
    let now: Timestamp = "2026-11-23T07:00:00Z".parse().unwrap();
    let decided = attach(&request, &loaded, &settings(), &Layout::new("/harbor"), now).unwrap();
    let all = lines(&decided);
    assert!(all.contains(&"inventory: add zone gullrock.example".to_string()), "{all:?}");
    let update = "update gullrock.example at 192.0.2.53:53: 0 records removed, 4 added".to_string();
    assert!(all.contains(&update) && !all.iter().any(|line| line.contains("zones/")), "{all:?}");
}

#[test]
fn refusals_say_as_what_and_to_whom() {
    let mut loaded = empty();
    let taken = decide("crumbandtide.example", &empty(), &settings()).unwrap().site;
    loaded.related = vec![Site { account: AccountName::parse("choir").unwrap(), ..taken }];
    assert_eq!(
        decide("www.crumbandtide.example", &loaded, &settings()).unwrap_err().to_string(),
        "crumbandtide.example is already attached: as addon domain to the account choir, served from /home/bakery/www/crumbandtide.example"
    );
    assert_eq!(
        decide("shop.crumbandtide.example", &loaded, &settings()).unwrap_err().to_string(),
        "shop.crumbandtide.example lies below crumbandtide.example, which belongs to the account choir"
    );
    let mut loaded = empty();
    zone_of(&mut loaded, ZONE, "choir");
    assert!(matches!(
        decide("shop.crumbandtide.example", &loaded, &settings()),
        Err(AttachRefused::SomebodyElses { .. })
    ));
}

#[test]
fn what_cannot_be_done_is_refused_before_anything_happens() {
    let refused = |name: &str, loaded: &AttachLoaded, settings: &Settings| decide(name, loaded, settings).unwrap_err();
    assert!(matches!(refused("co.uk", &empty(), &settings()), AttachRefused::PublicSuffix(_)));
    let nobody = AttachLoaded { account: None, ..empty() };
    assert!(matches!(refused("a.example", &nobody, &settings()), AttachRefused::UnknownAccount(_)));
    let in_the_way = AttachLoaded { site_file: Some(vec![]), ..empty() };
    assert!(matches!(refused("a.example", &in_the_way, &settings()), AttachRefused::InTheWay(_)));
    let zone_in_the_way =
        AttachLoaded { new_zone: NewZoneFiles { zone_file: Some(vec![]), ..NewZoneFiles::default() }, ..empty() };
    assert!(matches!(
        refused("a.example", &zone_in_the_way, &settings()),
        AttachRefused::NewZone(NewZoneRefused::InTheWay(_))
    ));
    let mut nowhere = settings();
    nowhere.host.addresses.clear();
    assert_eq!(refused("a.example", &empty(), &nowhere), AttachRefused::NoAddresses);
    assert!(matches!(
        refused("saltmarsh.example", &empty(), &settings()),
        AttachRefused::NewZone(NewZoneRefused::Template(TemplateError::NameserverAddress(_)))
    ));
    let mut outside = settings();
    outside.sites.document_root = "/srv/{hostname}".into();
    assert!(matches!(refused("a.example", &empty(), &outside), AttachRefused::OutsideHome { .. }));
    let mut alias = empty();
    zone_of(&mut alias, &format!("{ZONE}shop CNAME elsewhere.example.\n"), "bakery");
    assert!(matches!(refused("shop.crumbandtide.example", &alias, &settings()), AttachRefused::ZoneRefuses { .. }));
}

fn asked(hostname: &str, place: ServedFrom, www: Option<WwwPolicy>) -> AttachRequest {
    AttachRequest {
        hostname: Hostname::parse(hostname).unwrap(),
        account: account("bakery").name,
        zone: ZoneChoice::Here,
        design: ZoneDesign::plain(Mail::Unsaid),
        www,
        place,
    }
}

fn decided(request: &AttachRequest, loaded: &AttachLoaded) -> Result<Attachment, AttachRefused> {
    attach(request, loaded, &settings(), &Layout::new("/harbor"), Timestamp::UNIX_EPOCH)
}

#[test]
fn www_comes_along_as_it_was_asked_for() {
    let names = |hostname: &str, www| {
        wanted_names(&Hostname::parse(hostname).unwrap(), www).iter().map(Hostname::to_string).collect::<Vec<_>>()
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
    assert!(matches!(root(given("/home/choir/x", false), &empty()), Err(AttachRefused::OutsideHome { .. })));
    assert!(matches!(root(given("../choir", false), &empty()), Err(AttachRefused::Path(_))));
    let there = AttachLoaded { root_is_there: true, shares_root: Some(hostname("a.example")), ..empty() };
    assert!(matches!(root(given("x", false), &there), Err(AttachRefused::RootIsThere(_))));
    let decision = decided(&asked("gullrock.example", given("x", true), None), &there).unwrap();
    assert!(decision.said[1].contains("that of a.example"), "{:?}", decision.said);
}

#[test]
fn a_parked_domain_joins_a_site_and_waits_for_a_certificate_of_its_own() {
    let mut site = decide("crumbandtide.example", &empty(), &settings()).unwrap().site;
    site.https = HttpsState::Forced;
    let loaded = AttachLoaded { joined: Some((site.clone(), Some(b"old".to_vec()))), ..empty() };
    let place = ServedFrom::SameAs(site.main().clone());
    let decision = decided(&asked("gullrock.example", place.clone(), None), &loaded).unwrap();
    assert_eq!((decision.site.hostnames.len(), decision.site.https), (4, HttpsState::Offered));
    let all = lines(&decision);
    assert!(all.contains(&"change /harbor/servers/nginx/crumbandtide.example.conf (644)".to_string()), "{all:?}");
    assert!(all.iter().any(|line| line == "inventory: add zone gullrock.example"), "{all:?}");
    let alone = decided(&asked("gullrock.example", place, None), &empty());
    assert!(matches!(alone, Err(AttachRefused::NotAttached(_))));
}

#[test]
fn a_name_that_somebody_else_serves_gets_an_alias_that_does_not_lead_back() {
    let mut loaded = empty();
    zone_of(&mut loaded, &format!("{ZONE}b CNAME cdn\n"), "bakery");
    let to = |target: &str| ServedFrom::Elsewhere(DnsName::absolute(target).unwrap());
    let decision = decided(&asked("cdn.crumbandtide.example", to("edge.network.example"), None), &loaded).unwrap();
    assert_eq!(lines(&decision), ["change /harbor/zones/crumbandtide.example.zone (644)"]);
    let back = decided(&asked("cdn.crumbandtide.example", to("b.crumbandtide.example"), None), &loaded);
    assert!(matches!(back, Err(AttachRefused::LeadsBack(..))));
    let apex = decided(&asked("crumbandtide.example", to("edge.network.example"), None), &loaded);
    assert!(matches!(apex, Err(AttachRefused::AliasAtApex(_))));
    let nowhere = decided(&asked("cdn.gullrock.example", to("edge.network.example"), None), &empty());
    assert!(matches!(nowhere, Err(AttachRefused::NoZone(_))));
}

#[test]
fn below_a_domain_of_the_provider_every_account_may_have_a_name() {
    let mut loaded = empty();
    zone_of(&mut loaded, ZONE, "choir");
    let mut provided = settings();
    provided.sites.provider_domains = vec![hostname("crumbandtide.example")];
    let decided = decide("hall.crumbandtide.example", &loaded, &provided).unwrap();
    assert!(lines(&decided).contains(&"change /harbor/zones/crumbandtide.example.zone (644)".to_string()));
    assert!(matches!(decide("crumbandtide.example", &loaded, &provided), Err(AttachRefused::SomebodyElses { .. })));
    assert!(decide("hall.crumbandtide.example", &loaded, &settings()).is_err());
}

#[test]
fn a_domain_without_a_site_is_a_zone_without_addresses() {
    let decision = decided(&asked("gullrock.example", ServedFrom::Nowhere, None), &empty()).unwrap();
    let all = lines(&decision);
    assert!(all.contains(&"inventory: add zone gullrock.example".to_string()), "{all:?}");
    assert!(!all.iter().any(|line| line.contains("site") || line.contains("make ")), "{all:?}");
    let Change::WriteFile(write) = &decision.change_set.changes[0] else { panic!("{all:?}") };
    assert!(!String::from_utf8_lossy(&write.content).contains("192.0.2.10"));
    let below = decided(&asked("a.gullrock.example", ServedFrom::Nowhere, None), &empty());
    assert!(matches!(below, Err(AttachRefused::NothingToServe(_))));
}
