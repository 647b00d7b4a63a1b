//! Attaching one more hostname, decided and rendered, in a harbor of 100 and of 100,000 hostnames.
//!
//! What grows with a harbor is what the decision reads: the part of the zone list that the new zone goes into. It is
//! as long here as it would be.

#![allow(clippy::unwrap_used)]

use std::hint::black_box;

use brightharbor_core::account::{Account, AccountName};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::harbor::{DnsServer, Layout, Settings, WebServer};
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::render::with_zone;
use brightharbor_core::site::{AttachLoaded, AttachRequest, ServedFrom, ZoneChoice, ZoneLoaded, attach};
use brightharbor_core::zone::{Document, Mail};
use brightharbor_core::zone::{KeptZone, NewZoneFiles, Zone, ZoneDesign, ZoneHome, ZonePlace};
use criterion::{BatchSize, Criterion, criterion_group, criterion_main};
use jiff::Timestamp;

fn settings() -> Settings {
    let mut settings = Settings::default();
    settings.host.addresses = vec!["192.0.2.10".parse().unwrap(), "2001:db8::10".parse().unwrap()];
    settings.host.nameservers =
        ["ns1", "ns2"].map(|n| DnsName::absolute(&format!("{n}.saltmarsh.example")).unwrap()).to_vec();
    settings.web.server = WebServer::Nginx;
    settings.dns.server = DnsServer::Bind;
    settings
}

fn hostname(text: &str) -> Hostname {
    Hostname::parse(text).unwrap()
}

fn zone_list(layout: &Layout, zones: usize) -> String {
    let first = hostname("first.example");
    let mut list = with_zone(DnsServer::Bind, "", &first, &layout.zone_file(&first), Default::default());
    // A part holds one in 256 of them.
    for number in 1..zones.div_ceil(256) {
        let zone = format!("zone{number}.example");
        let file = layout.zone_file(&hostname(&zone));
        list.push_str(&format!("zone \"{zone}\" {{ type primary; file \"{}\"; }};\n", file.display()));
    }
    list
}

fn loaded(layout: &Layout, zones: usize) -> AttachLoaded {
    AttachLoaded {
        by_hand: None,
        answered: None,
        clash: None,
        is_first: false,
        account: Some(Account::new(AccountName::parse("bakery").unwrap(), "baker@saltmarsh.example", "/home/bakery")),
        related: vec![],
        shown_domain: None,
        zone: None,
        new_zone: NewZoneFiles { zone_list: Some(zone_list(layout, zones).into_bytes()), ..NewZoneFiles::default() },
        site_file: None,
        joined: None,
        root_is_there: false,
        root_is_open: false,
        shares_root: None,
        own: None,
        near_miss: None,
    }
}

fn decide(name: &str, loaded: &AttachLoaded, settings: &Settings, layout: &Layout) -> ChangeSet {
    let request = AttachRequest {
        hostname: hostname(name).into(),
        account: AccountName::parse("bakery").unwrap(),
        zone: ZoneChoice::Here,
        design: ZoneDesign::plain(Mail::Unsaid),
        www: None,
        place: ServedFrom::new_root(),
        content: Default::default(),
    };
    let now = Timestamp::from_second(1_795_000_000).unwrap();
    attach(&request, loaded, settings, layout, now).unwrap().plan.set
}

fn bench(criterion: &mut Criterion) {
    let (settings, layout) = (settings(), Layout::new("/var/lib/brightharbor"));
    for hostnames in [100, 100_000] {
        let domain = loaded(&layout, hostnames);
        criterion.bench_function(&format!("attach a domain among {hostnames}"), |bencher| {
            bencher.iter_batched(
                || domain.clone(),
                |loaded| black_box(decide("crumbandtide.example", &loaded, &settings, &layout)),
                BatchSize::LargeInput,
            );
        });
        let mut below = loaded(&layout, hostnames);
        let file = "$TTL 3600\n@ SOA ns1.saltmarsh.example. h 7 1 1 1 1\n@ NS ns1.saltmarsh.example.\n@ A 192.0.2.10\n";
        let name = hostname("crumbandtide.example");
        let document = Document::parse(file, &name.dns_name()).unwrap();
        let place = ZonePlace::File { path: layout.zone_file(&name) };
        let zone = Zone::new(name, AccountName::parse("bakery").unwrap(), ZoneHome::Here);
        below.zone = Some(ZoneLoaded::Kept(Box::new(KeptZone { zone, document, place })));
        criterion.bench_function(&format!("attach a subdomain among {hostnames}"), |bencher| {
            bencher.iter(|| black_box(decide("shop.crumbandtide.example", &below, &settings, &layout)));
        });
    }
}

criterion_group!(benches, bench);
criterion_main!(benches);
