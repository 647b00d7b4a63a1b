//! Proofs over TLS (RFC 8737) through a real front: nginx passes connections for `acme-tls/1` on to the responder, all
//! others to the web server; the test CA of the `pebble` package looks at the front.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::process::{Command, Stdio};

use brightharbor_standins::Cast;
use serde_json::{Value, json};

use super::ca::{Ca, Manner, start_ca_with};
use super::servers::{Server, await_listener, need, open_folder};
use crate::coast::Coast;

const STREAM: &str = "/usr/lib/nginx/modules/ngx_stream_module.so";

/// An address of its own for a front, and one for the responder behind it.
fn places(cast: &Cast, last: u8) -> (IpAddr, SocketAddr) {
    let IpAddr::V4(web) = cast.web() else { panic!() };
    let [a, b, c, _] = web.octets();
    let at = IpAddr::from([a, b, c, last]);
    (at, std::net::TcpListener::bind((at, 0)).unwrap().local_addr().unwrap())
}

/// nginx at an address of its own, before the web server of the cast; `http` is what it does with that, if anything.
fn start_front(cast: &Cast, at: IpAddr, responder: SocketAddr, http: &str, folder: &Path) -> Server {
    let nginx = need("nginx", "nginx-light");
    assert!(Path::new(STREAM).is_file(), "{STREAM} is missing; install it: apt-get install libnginx-mod-stream");
    let front = folder.join("front");
    fs::create_dir(&front).unwrap();
    let (https, web) = (cast.https_port, cast.web());
    let text = format!(
        "load_module {STREAM};\ndaemon off;\npid {0}/nginx.pid;\nerror_log {0}/error.log;\nworker_processes 1;\n\
         events {{ worker_connections 64; }}\nstream {{\n\
         map $ssl_preread_alpn_protocols $goes_to {{ ~\\bacme-tls/1\\b {responder}; default {web}:{https}; }}\n\
         server {{ listen {at}:{https}; ssl_preread on; proxy_pass $goes_to; }}\n\
         {http}\n}}\n",
        front.display()
    );
    fs::write(front.join("nginx.conf"), text).unwrap();
    let server = Server::spawn(
        Command::new(nginx).arg("-p").arg(&front).arg("-c").arg(front.join("nginx.conf")).stderr(Stdio::null()),
    );
    await_listener((at, https).into());
    server
}

/// A harbor whose address is that of the front, with a second CA.
fn init_behind(coast: &Coast, front: IpAddr, ca: &Ca) {
    let root = coast.path("ca-root.pem");
    fs::write(&root, fs::read_to_string(&root).unwrap() + &fs::read_to_string(&ca.root).unwrap()).unwrap();
    let settings = coast.world.settings();
    let addresses = format!("addresses = [\"{}\"]", coast.world.cast.web());
    assert!(settings.contains(&addresses), "{settings}");
    let table = format!(
        "\n[cas.pier]\ndirectory = \"{}\"\nterms-accepted = true\ntrust-root = \"{}\"\n",
        ca.directory,
        ca.https_root.display()
    );
    let text = settings.replace(&addresses, &format!("addresses = [\"{front}\"]")) + &table;
    fs::write(coast.path("settings.toml"), &text).unwrap();
    coast.run(&["init", "--settings", coast.path("settings.toml").to_str().unwrap()]).expect(0);
    coast.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    coast.delegate_here("crumbandtide.example");
}

/// Names the responder's address in harbor.toml.
fn listen_at(coast: &Coast, address: SocketAddr) {
    let toml = coast.harbor().join("harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    let lines: Vec<&str> = text.lines().filter(|line| !line.starts_with("tls-alpn-listen")).collect();
    let line = format!("[web]\ntls-alpn-listen = \"{address}\"");
    fs::write(&toml, lines.join("\n").replacen("[web]", &line, 1) + "\n").unwrap();
}

#[test]
fn where_nobody_takes_http_what_else_there_is_proves_the_names() {
    let coast = Coast::empty();
    let cast = &coast.world.cast;
    let (at, responder) = places(cast, 31);
    let folder = open_folder();
    let front = start_front(cast, at, responder, "", folder.path());
    let ca = start_ca_with(cast, coast.folder.path(), &Manner::default());
    init_behind(&coast, at, &ca);
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]);
    let issue = |more: &[&str], exit| {
        coast.json(&[&["certificate", "renew", "crumbandtide.example", "--ca", "pier"], more].concat(), exit)
    };
    let proofs = |foreseen: &Value| foreseen["proofs"].clone();
    assert_eq!(proofs(&issue(&["--dry-run"], 0)), json!(["dns-01", "dns-01"]));
    let names = json!(["crumbandtide.example", "www.crumbandtide.example"]);
    assert_eq!(issue(&[], 3)["certificate"]["names"], names);
    assert_eq!(proofs(&issue(&["--dry-run", "--proof", "http-01"], 3)), json!([]));

    listen_at(&coast, responder);
    assert_eq!(proofs(&issue(&["--dry-run"], 0)), json!(["tls-alpn-01", "tls-alpn-01"]));
    let zone = || fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap();
    let before = zone();
    let renewed = coast.json(&["certificate", "renew", "crumbandtide.example"], 3);
    assert_eq!((&renewed["certificate"]["new"], &renewed["certificate"]["names"]), (&json!(true), &names));
    assert_eq!(zone(), before);

    // A web server that is down altogether is no reason to prove by other means.
    drop(front);
    let down = issue(&["--dry-run"], 3);
    assert_eq!(proofs(&down), json!([]));
    assert!(down["left_out"][0]["reason"].as_str().unwrap().contains("connection refused"), "{down}");
}

#[test]
fn proofs_over_tls_are_shown_to_the_ca_through_a_front() {
    let coast = Coast::empty();
    let cast = &coast.world.cast;
    let (at, responder) = places(cast, 30);
    let folder = open_folder();
    let (web, http) = (cast.web(), cast.http_port);
    let passed_on = format!("server {{ listen {at}:{http}; proxy_pass {web}:{http}; }}");
    let _front = start_front(cast, at, responder, &passed_on, folder.path());
    let ca = start_ca_with(cast, coast.folder.path(), &Manner::default());

    // The world knows the front; the web server stands behind it.
    init_behind(&coast, at, &ca);
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(0);

    let issue = ["certificate", "issue", "crumbandtide.example", "--ca", "pier", "--proof", "tls-alpn-01"];
    assert!(coast.run(&issue).expect(4).contains("tls-alpn-listen"));
    // Where the front passes them elsewhere, the CA is not even asked to look.
    listen_at(&coast, (at, 0).into());
    let refused = coast.run(&issue).expect(4);
    assert!(refused.contains("the proof over TLS is not shown"), "{refused}");
    listen_at(&coast, responder);
    let issued = coast.json(&issue, 0);
    assert_eq!(issued["certificate"]["outcome"], "served", "{issued}");
    assert_eq!(issued["certificate"]["names"], json!(["crumbandtide.example", "www.crumbandtide.example"]));
    let left: Vec<_> = fs::read_dir(coast.harbor().join("proofs")).unwrap().collect();
    assert!(left.is_empty(), "{left:?}");
    // A renewal does the same.
    coast.json(&["certificate", "renew", "crumbandtide.example"], 0);
    // The reverse name stands for an address (RFC 8738 section 6). This front tells https by address from others by
    // nothing, so that the handshake behind it shows what the web server has for its own address.
    coast.run(&["attach", "--address", &at.to_string(), "--account", "bakery"]).expect(0);
    let by_address =
        coast.json(&["certificate", "issue", &at.to_string(), "--ca", "pier", "--proof", "tls-alpn-01"], 1);
    assert_eq!(by_address["certificate"]["outcome"], "not-shown", "{by_address}");
    assert!(std::net::TcpStream::connect(responder).is_err(), "the responder is closed with the command");
}
