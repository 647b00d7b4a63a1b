//! Files as they are found on disk, whatever has happened to them: settings, site files, a server's own configuration, order
//! files, values of the inventory. Each is read without a panic; settings that are changed stay readable.
#![no_main]

use brightharbor_core::acme::Machine;
use brightharbor_core::certificate::{CertificateWish, Demand};
use brightharbor_core::harbor::{DnsServer, GivenKeys, Settings, SettingsFile, WebServer, change_settings};
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::render::{IncludeWalk, PlainSite, clash, is_as_written, missing_modules, site_line, zone_line};
use brightharbor_core::site::SiteRules;
use brightharbor_core::zone::Pattern;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let _ = is_as_written(data);
    let Ok(text) = std::str::from_utf8(data) else { return };
    let _ = serde_json::from_str::<SiteRules>(text);
    let _ = serde_json::from_str::<CertificateWish>(text);
    let _ = serde_json::from_str::<Demand>(text);
    let _ = serde_json::from_str::<Pattern>(text);
    let _ = serde_json::from_str::<PlainSite>(text);
    if let Ok(mut machine) = serde_json::from_str::<Machine>(text) {
        if machine.is_sound() {
            let _ = machine.next("2026-11-23T12:00:00Z".parse().expect("a time"));
        }
    }
    if toml::from_str::<Settings>(text).is_ok() {
        let mut given = GivenKeys::default();
        given.give("ca", &["contact"], |settings| settings.ca.contact = Some("crew@saltmarsh.example".into()));
        let file = SettingsFile { path: "/harbor/harbor.toml".into(), content: data.to_vec(), mode: 0o644 };
        let plan = change_settings(&file, &given).expect("what can be read can be changed");
        if let Some(after) = plan.set.pending(&file.path) {
            let after = std::str::from_utf8(after).expect("text stays text");
            let settings: Settings = toml::from_str(after).expect("it can be read again");
            assert_eq!(settings.ca.contact.as_deref(), Some("crew@saltmarsh.example"));
        }
    }
    let host = Host::parse("gullrock.example").expect("a hostname");
    let zone = Hostname::parse("gullrock.example").expect("a hostname");
    let address = "192.0.2.10".parse().expect("an address");
    for server in [WebServer::Nginx, WebServer::Apache] {
        let _ = site_line(server, text, &host);
        let _ = clash(server, text, &[], &[address], &[80, 443]);
        let _ = clash(server, text, &[address], &[address], &[80, 443]);
        let _ = missing_modules(server, text);
    }
    for server in [DnsServer::Bind, DnsServer::Knot, DnsServer::Nsd] {
        let _ = zone_line(server, text, &zone);
    }
    let mut walk = IncludeWalk::new("/etc/nginx/nginx.conf".into(), "/harbor/*.conf".into());
    let _ = walk.next_ask();
    walk.read(text);
    for _ in 0..20 {
        if walk.next_ask().is_none() {
            break;
        }
        walk.listed(&["a.conf".to_string()]);
    }
});
