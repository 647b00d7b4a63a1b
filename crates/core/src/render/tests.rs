//! Whole rendered files, compared: a change of the model or of a writer shows here first.

use super::*;
use crate::name::Hostname;
use crate::site::{AccountName, CertificateFiles, SiteKind};

fn bakery(https: HttpsPolicy) -> Site {
    Site {
        account: AccountName::parse("bakery").unwrap(),
        hostnames: ["crumbandtide.example", "www.crumbandtide.example"].map(|n| Hostname::parse(n).unwrap()).to_vec(),
        document_root: "/home/bakery/www/crumbandtide.example".into(),
        kind: SiteKind::AddonDomain,
        https,
        certificate: (https != HttpsPolicy::None)
            .then(|| CertificateFiles { folder: "/harbor/certificates/crumbandtide.example/1".into() }),
    }
}

fn rendered(server: WebServer, https: HttpsPolicy) -> String {
    let mut settings = Settings::default();
    settings.web.server = server;
    settings.host.addresses = vec!["192.0.2.10".parse().unwrap(), "2001:db8::10".parse().unwrap()];
    site_file(&bakery(https), &settings, &Layout::new("/harbor")).unwrap()
}

#[test]
fn nginx_before_and_after_the_certificate() {
    insta::assert_snapshot!("nginx_http_only", rendered(WebServer::Nginx, HttpsPolicy::None));
    insta::assert_snapshot!("nginx_https_forced", rendered(WebServer::Nginx, HttpsPolicy::Forced));
}

#[test]
fn apache_before_and_after_the_certificate() {
    insta::assert_snapshot!("apache_http_only", rendered(WebServer::Apache, HttpsPolicy::None));
    insta::assert_snapshot!("apache_https_forced", rendered(WebServer::Apache, HttpsPolicy::Forced));
}

#[test]
fn https_is_offered_before_it_is_forced() {
    let offered = rendered(WebServer::Nginx, HttpsPolicy::Offered);
    assert!(offered.contains("ssl_certificate ") && !offered.contains("return 301"), "{offered}");
}

#[test]
fn an_unusual_https_port_stands_in_the_redirect() {
    let mut settings = Settings::default();
    settings.internet.https_port = Some(8443);
    settings.web.server = WebServer::Nginx;
    settings.web.listen = vec!["127.0.0.9".parse().unwrap(), "::1".parse().unwrap()];
    let text = site_file(&bakery(HttpsPolicy::Forced), &settings, &Layout::new("/harbor")).unwrap();
    assert!(text.contains("return 301 https://$host:8443$request_uri;"), "{text}");
    assert!(text.contains("listen 127.0.0.9:8443 ssl http2;") && text.contains("listen [::1]:80;"), "{text}");
}

#[test]
fn the_fingerprint_follows_what_is_served() {
    let plain = fingerprint(&bakery(HttpsPolicy::None));
    assert_eq!(plain, fingerprint(&bakery(HttpsPolicy::None)));
    assert_ne!(plain, fingerprint(&bakery(HttpsPolicy::Forced)));
    let moved = Site { document_root: "/home/bakery/www/other".into(), ..bakery(HttpsPolicy::None) };
    assert_ne!(plain, fingerprint(&moved));
}

#[test]
fn the_zone_list_grows_at_its_end_and_keeps_hand_edits() {
    let zone = |text: &str| Hostname::parse(text).unwrap();
    let first = with_zone("", &zone("gullrock.example"), Path::new("/harbor/zones/gullrock.example.zone"));
    let edited = format!("{first}// by hand: zone \"lanternchoir.example\" moves in May");
    let second =
        with_zone(&edited, &zone("lanternchoir.example"), Path::new("/harbor/zones/lanternchoir.example.zone"));
    assert!(second.starts_with(&edited));
    assert!(second.ends_with(
        "in May\nzone \"lanternchoir.example\" { type primary; file \"/harbor/zones/lanternchoir.example.zone\"; };\n"
    ));
    assert_eq!(with_zone(&second, &zone("gullrock.example"), Path::new("/x")), second);
}
