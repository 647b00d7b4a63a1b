//! Whole rendered files, compared: a change of the model or of a writer shows here first.

use super::*;
use crate::account::AccountName;
use crate::certificate::CertificateFiles;
use crate::harbor::DnsServer;
use crate::name::{Host, Hostname};
use crate::site::{Cached, Content, HttpsState, HttpsStates, Part, SiteKind, SiteRules, parse_part};

fn bakery(https: HttpsState) -> Site {
    let hostnames = ["crumbandtide.example", "www.crumbandtide.example"].map(|n| Host::parse(n).unwrap()).to_vec();
    Site {
        account: AccountName::parse("bakery").unwrap(),
        document_root: "/home/bakery/www/crumbandtide.example".into(),
        kind: SiteKind::AddonDomain,
        https: HttpsStates::all(&hostnames, https),
        hostnames,
        certificate: (https != HttpsState::None)
            .then(|| CertificateFiles { folder: "/harbor/certificates/crumbandtide.example/1".into() }),
        rules: SiteRules::default(),
    }
}

fn rendered(server: WebServer, https: HttpsState) -> String {
    let mut settings = Settings::default();
    settings.web.server = server;
    settings.host.addresses = vec!["192.0.2.10".parse().unwrap(), "2001:db8::10".parse().unwrap()];
    site_file(&bakery(https), &settings, &Layout::new("/harbor")).unwrap()
}

#[test]
fn nginx_before_and_after_the_certificate() {
    insta::assert_snapshot!("nginx_http_only", rendered(WebServer::Nginx, HttpsState::None));
    insta::assert_snapshot!("nginx_https_forced", rendered(WebServer::Nginx, HttpsState::Forced));
}

#[test]
fn apache_before_and_after_the_certificate() {
    insta::assert_snapshot!("apache_http_only", rendered(WebServer::Apache, HttpsState::None));
    insta::assert_snapshot!("apache_https_forced", rendered(WebServer::Apache, HttpsState::Forced));
}

#[test]
fn a_certificate_that_demands_a_staple_is_shown_with_one() {
    let mut site = bakery(HttpsState::Offered);
    let now = "2026-11-29T07:00:00Z".parse().unwrap();
    let mut rendered = |server, stapled| {
        site.certificate =
            Some(CertificateFiles::new_below("/harbor/certificates/crumbandtide.example".into(), now, stapled));
        let mut settings = Settings::default();
        settings.web.server = server;
        let text = site_file(&site, &settings, &Layout::new("/harbor")).unwrap();
        text.lines().filter(|line| line.to_lowercase().contains("stapl")).map(str::trim).collect::<Vec<_>>().join("\n")
    };
    let folder = "/harbor/certificates/crumbandtide.example/20261129-070000-000-stapled";
    let nginx = rendered(WebServer::Nginx, true);
    assert!(nginx.starts_with(&format!("ssl_certificate \"{folder}/chain.pem\";")), "{nginx}");
    assert!(nginx.contains(&format!("ssl_stapling on;\nssl_stapling_file \"{folder}/staple.der\";")), "{nginx}");
    let apache = rendered(WebServer::Apache, true);
    assert!(
        apache.contains("SSLUseStapling on\nSSLStaplingReturnResponderErrors off\nSSLStaplingFakeTryLater off"),
        "{apache}"
    );
    assert!(!apache.contains("SSLStaplingCache"), "httpd ends at a reload that finds it gone");
    let fetching = [WebServer::Nginx, WebServer::Apache, WebServer::StandIn].map(WebServer::fetches_staples);
    assert_eq!(fetching, [false, true, false], "who reads no file");
    assert_eq!([WebServer::Nginx, WebServer::Apache].map(|server| rendered(server, false)), ["", ""]);
}

#[test]
fn the_parts_of_a_site_that_runs_programs() {
    let mut site = bakery(HttpsState::Offered);
    site.hostnames.truncate(1);
    let typed = ["/blog=php:8.2", "/api=http://127.0.0.1:3000", "/app=unix:/run/app.sock"];
    *site.rules.content = Content {
        parts: typed.map(|typed| parse_part(typed).unwrap()).map(|(path, by)| Part { path, by: by.unwrap() }).to_vec(),
        cache: vec![Cached { endings: vec!["css".into(), "js".into()], seconds: 86_400 }],
        missing_page: Some("/404.html".into()),
        front: true,
        no_scripts: vec!["/blog/uploads".into(), "/elsewhere".into()],
        ..Content::default()
    };
    let mut settings = Settings::default();
    for server in [WebServer::Nginx, WebServer::Apache] {
        settings.web.server = server;
        let name = format!("{}_parts", server.word());
        insta::assert_snapshot!(name, site_file(&site, &settings, &Layout::new("/harbor")).unwrap());
    }
}

#[test]
fn https_is_offered_before_it_is_forced() {
    let offered = rendered(WebServer::Nginx, HttpsState::Offered);
    assert!(offered.contains("ssl_certificate ") && !offered.contains("return 301"), "{offered}");
}

#[test]
fn a_name_without_certificate_stays_on_http_and_the_others_do_not() {
    let mut settings = Settings::default();
    let mut site = bakery(HttpsState::Forced);
    let alias = Host::parse("notyet.example").unwrap();
    site.hostnames.push(alias.clone());
    site.rules.hsts = Some(60);
    let before = fingerprint(&site);
    for (server, block) in [(WebServer::Nginx, "server {"), (WebServer::Apache, "<VirtualHost")] {
        settings.web.server = server;
        let text = site_file(&site, &settings, &Layout::new("/harbor")).unwrap();
        let named = |name: &str| {
            let of_name = |part: &&str| {
                let line = part.lines().find(|line| line.contains("server_name ") || line.contains("ServerName "));
                line.is_some_and(|line| line.split([' ', ';']).any(|word| word == name))
            };
            text.split(block).filter(of_name).map(String::from).collect::<Vec<_>>()
        };
        let https = |part: &String| part.contains("[R=301,L,NE]") || part.contains("return 301 https://");
        for (name, redirects, hsts) in [("crumbandtide.example", 1, 1), ("notyet.example", 0, 0)] {
            let parts = named(name);
            let bound = parts.iter().filter(|part| part.contains("Strict-Transport-Security")).count();
            assert_eq!((parts.len(), bound), (2, hsts), "{name}: {text}");
            assert_eq!(parts.iter().filter(|part| https(part)).count(), redirects, "{name}: {text}");
        }
    }
    site.https.set(&alias, HttpsState::Forced);
    assert_ne!(before, fingerprint(&site));
    // A site as an older version knew it, with one state for all of its names, keeps its fingerprint.
    let offered = Site { https: HttpsStates::all(&site.hostnames[..1], HttpsState::Offered), ..site.clone() };
    let all = Site { https: HttpsStates::all(&site.hostnames, HttpsState::Offered), ..site };
    assert_eq!(fingerprint(&offered), fingerprint(&all));
}

#[test]
fn an_unusual_https_port_stands_in_the_redirect() {
    let mut settings = Settings::default();
    settings.internet.https_port = Some(8443);
    settings.web.server = WebServer::Nginx;
    settings.web.listen = vec!["127.0.0.9".parse().unwrap(), "::1".parse().unwrap()];
    let text = site_file(&bakery(HttpsState::Forced), &settings, &Layout::new("/harbor")).unwrap();
    assert!(text.contains("return 301 https://$host:8443$request_uri;"), "{text}");
    assert!(text.contains("listen 127.0.0.9:8443 ssl http2;") && text.contains("listen [::1]:80;"), "{text}");
}

#[test]
fn the_fingerprint_follows_what_is_served() {
    let plain = fingerprint(&bakery(HttpsState::None));
    assert_eq!(plain, fingerprint(&bakery(HttpsState::None)));
    assert_ne!(plain, fingerprint(&bakery(HttpsState::Forced)));
    let moved = Site { document_root: "/home/bakery/www/other".into(), ..bakery(HttpsState::None) };
    assert_ne!(plain, fingerprint(&moved));
}

fn boatyard() -> (Hostname, std::path::PathBuf) {
    (Hostname::parse("gullrock.example").unwrap(), "/harbor/zones/gullrock.example.zone".into())
}

fn choir() -> (Hostname, std::path::PathBuf) {
    (Hostname::parse("lanternchoir.example").unwrap(), "/harbor/zones/lanternchoir.example.zone".into())
}

#[test]
fn the_zone_list_grows_at_its_end_and_keeps_hand_edits() {
    let ((boat, boat_file), (choir, choir_file)) = (boatyard(), choir());
    for server in [DnsServer::Bind, DnsServer::Knot, DnsServer::Nsd] {
        let first = with_zone(server, "", &boat, &boat_file, Serving::default());
        let edited = format!("{first}# by hand: lanternchoir.example moves in May");
        let second = with_zone(server, &edited, &choir, &choir_file, Serving::default());
        let stanza = zone_stanza(server, &choir, &choir_file, Serving::default());
        assert_eq!(second, format!("{edited}\n{stanza}"));
        assert_eq!(with_zone(server, &second, &boat, Path::new("/x"), Serving::default()), second);
    }
    let by_hand = "zone gullrock.example. {\n\ttype primary;\n};\n";
    assert_eq!(with_zone(DnsServer::Bind, by_hand, &boat, &boat_file, Serving::default()), by_hand);
}

#[test]
fn zone_lists_with_and_without_secondaries() {
    let (zone, file) = boatyard();
    let publication = Publication {
        secondaries: vec![PublishedTo { address: "192.0.2.54:53".parse().unwrap(), key: "quay".into() }],
        catalog: Some(CatalogStanza {
            name: Hostname::parse("zones.invalid").unwrap(),
            update_key: Some("self".into()),
        }),
    };
    for server in [DnsServer::Bind, DnsServer::Knot, DnsServer::Nsd] {
        let layout = Layout::new("/harbor");
        let index = zone_index(server, &layout, &publication);
        // The parts are all alike: the first one stands for them.
        let lines = index.lines().filter(|line| !line.contains("/parts/") || line.contains("/00."));
        let index = lines.collect::<Vec<_>>().join("\n");
        let part = with_zone(server, "", &zone, &file, Serving { published: true, signed_by: None });
        insta::assert_snapshot!(format!("zone_list_{server:?}").to_lowercase(), format!("{index}\n---\n{part}"));
        let plain = zone_index(server, &layout, &Publication::default());
        assert!(!plain.contains("192.0.2.54") && plain.lines().count() >= 257, "{plain}");
    }
}

#[test]
fn stanzas_follow_when_the_first_secondary_comes_but_hand_made_ones_stay() {
    let zones = [boatyard(), choir()].map(|(zone, file)| (zone, file, None));
    let by_hand = "zone \"lanternchoir.example\" { type secondary; };\n";
    let part = with_zone(DnsServer::Bind, by_hand, &zones[0].0, &zones[0].1, Serving::default());
    let published = republished(DnsServer::Bind, &part, &zones, true);
    assert!(published.starts_with(by_hand) && published.contains("also-notify"), "{published}");
    assert_eq!(republished(DnsServer::Bind, &published, &zones, false), part);
}

#[test]
fn a_zone_that_the_server_signs_has_its_policy_in_its_stanza_and_loses_it_again() {
    let (zone, file) = boatyard();
    for server in [DnsServer::Bind, DnsServer::Knot] {
        for published in [false, true] {
            let plain = with_zone(server, "", &zone, &file, Serving { published, signed_by: None });
            let signed = signed_anew(server, &plain, &zone, &file, None, Some("coast")).unwrap();
            assert!(signed.contains("dnssec-policy") && signed.contains("coast"), "{signed}");
            assert_eq!(signed_anew(server, &signed, &zone, &file, Some("coast"), None).unwrap(), plain);
            assert_eq!(signed_anew(server, &signed, &zone, &file, None, Some("other")), None, "not as it was written");
            assert_eq!(without_zone(server, &signed, &zone, &file, Some("coast")), zone_list_head(server));
            let zones = [(zone.clone(), file.clone(), Some("coast".to_string()))];
            let turned = republished(server, &signed, &zones, !published);
            assert_eq!(republished(server, &turned, &zones, published), signed);
        }
    }
    let by_hand = "zone \"gullrock.example\" { type primary; file \"/etc/x\"; };\n";
    assert_eq!(signed_anew(DnsServer::Bind, by_hand, &zone, &file, None, Some("default")), None);
    let knot = with_zone(DnsServer::Knot, "", &zone, &file, Serving { published: false, signed_by: Some("default") });
    assert!(knot.contains("dnssec-signing: on\n    zonefile-sync: -1\n"), "the server's own default policy: {knot}");
}

#[test]
fn a_hand_edit_of_a_site_file_is_told_by_its_first_line() {
    for server in [WebServer::Nginx, WebServer::Apache, WebServer::StandIn] {
        let text = rendered(server, HttpsState::Forced);
        assert!(is_as_written(text.as_bytes()), "{server:?}");
        if server != WebServer::StandIn {
            assert!(!is_as_written(text.replace("443", "8443").as_bytes()), "{server:?}");
            assert!(!is_as_written(text.split_once('\n').unwrap().1.as_bytes()), "{server:?}");
        }
    }
    assert!(!is_as_written(b"server { }") && !is_as_written(b""));
}
