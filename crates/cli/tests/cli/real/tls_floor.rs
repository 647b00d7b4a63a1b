//! The oldest version of TLS that a site takes is its own affair, whichever site is the first at the socket: on nginx and
//! Apache httpd, asked by OpenSSL's client.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::process::{Command, Stdio};

use brightharbor_core::harbor::{Layout, Settings, WebServer};
use brightharbor_core::render::site_file;
use brightharbor_core::site::{HttpsState, SiteRules, TlsFloor};
use brightharbor_standins::World;

use super::servers::{Server, Web, await_listener, need, open_folder};
use super::webs::site;

/// In the order in which servers read their files.
const SITES: [(&str, TlsFloor); 3] = [
    ("crumbandtide.example", TlsFloor::Tls13),
    ("gullrock.example", TlsFloor::Tls12),
    ("lanternchoir.example", TlsFloor::Tls13),
];

/// Whether a handshake of this version, and no other, comes about.
fn shakes_hands(at: SocketAddr, host: &str, version: &str) -> bool {
    let words = ["s_client", "-connect", &at.to_string(), "-servername", host, version];
    let asked = Command::new(need("openssl", "openssl")).args(words).stdin(Stdio::null()).output().unwrap();
    let said = String::from_utf8_lossy(&asked.stdout);
    assert!(said.contains("Cipher is"), "{at} {host}: {asked:?}");
    !said.contains("Cipher is (NONE)")
}

#[test]
fn each_site_has_its_own() {
    let folder = open_folder();
    let harbor = folder.path().join("harbor");
    fs::create_dir_all(harbor.join("proofs")).unwrap();
    let world = World::start_around(folder.path()).unwrap();
    let (nginx_at, apache_at): (IpAddr, IpAddr) = (world.cast.spare(30), world.cast.spare(31));
    let layout = Layout::new(&harbor);
    let mut settings = Settings::default();
    settings.internet.http_port = Some(world.cast.http_port);
    settings.internet.https_port = Some(world.cast.https_port);
    for (server, at) in [(WebServer::Nginx, nginx_at), (WebServer::Apache, apache_at)] {
        settings.web.server = server;
        settings.web.listen = vec![at];
        fs::create_dir_all(layout.site_files(server)).unwrap();
        for (domain, tls) in SITES {
            let rules = SiteRules { tls, ..SiteRules::default() };
            let site = site(folder.path(), domain, HttpsState::Offered, rules);
            let text = site_file(&site, &settings, &layout).unwrap();
            fs::write(layout.site_file(server, site.main()), text).unwrap();
        }
    }
    let nginx = Web::nginx(folder.path(), &layout.site_files(WebServer::Nginx));
    let apache = Web::apache_at(&world.cast, apache_at, folder.path(), &layout.site_files(WebServer::Apache));
    let _running: [Server; 2] = [nginx.start(&world.cast), apache.start_at(apache_at, &world.cast)];
    for at in [nginx_at, apache_at] {
        let at = SocketAddr::new(at, world.cast.https_port);
        await_listener(at);
        for (domain, floor) in SITES {
            assert!(shakes_hands(at, domain, "-tls1_3"), "{at} {domain}");
            assert_eq!(shakes_hands(at, domain, "-tls1_2"), floor == TlsFloor::Tls12, "{at} {domain}");
        }
    }
}
