//! Proofs over TLS (RFC 8737) through a real front: nginx passes connections for `acme-tls/1` on to the responder, all
//! others to the web server; the test CA of the `pebble` package looks at the front.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::process::{Command, Stdio};

use brightharbor_standins::Cast;
use serde_json::json;

use super::ca::{Manner, start_ca_with};
use super::servers::{Server, await_listener, need, open_folder};
use crate::coast::Coast;

const STREAM: &str = "/usr/lib/nginx/modules/ngx_stream_module.so";

/// nginx at an address of its own, before the web server of the cast.
fn start_front(cast: &Cast, at: IpAddr, responder: SocketAddr, folder: &Path) -> Server {
    let nginx = need("nginx", "nginx-light");
    assert!(Path::new(STREAM).is_file(), "{STREAM} is missing; install it: apt-get install libnginx-mod-stream");
    let front = folder.join("front");
    fs::create_dir(&front).unwrap();
    let (http, https, web) = (cast.http_port, cast.https_port, cast.web());
    let text = format!(
        "load_module {STREAM};\ndaemon off;\npid {0}/nginx.pid;\nerror_log {0}/error.log;\nworker_processes 1;\n\
         events {{ worker_connections 64; }}\nstream {{\n\
         map $ssl_preread_alpn_protocols $goes_to {{ ~\\bacme-tls/1\\b {responder}; default {web}:{https}; }}\n\
         server {{ listen {at}:{https}; ssl_preread on; proxy_pass $goes_to; }}\n\
         server {{ listen {at}:{http}; proxy_pass {web}:{http}; }}\n}}\n",
        front.display()
    );
    fs::write(front.join("nginx.conf"), text).unwrap();
    let server = Server::spawn(
        Command::new(nginx).arg("-p").arg(&front).arg("-c").arg(front.join("nginx.conf")).stderr(Stdio::null()),
    );
    await_listener((at, https).into());
    server
}

#[test]
fn proofs_over_tls_are_shown_to_the_ca_through_a_front() {
    let coast = Coast::empty();
    let cast = &coast.world.cast;
    let IpAddr::V4(web) = cast.web() else { panic!() };
    let [a, b, c, _] = web.octets();
    let at = IpAddr::from([a, b, c, 30]);
    let responder = std::net::TcpListener::bind((at, 0)).unwrap().local_addr().unwrap();
    let folder = open_folder();
    let _front = start_front(cast, at, responder, folder.path());
    let ca = start_ca_with(cast, coast.folder.path(), &Manner::default());

    // The world knows the front; the web server stands behind it.
    let root = coast.path("ca-root.pem");
    fs::write(&root, fs::read_to_string(&root).unwrap() + &fs::read_to_string(&ca.root).unwrap()).unwrap();
    let settings = coast.world.settings();
    let addresses = format!("addresses = [\"{web}\"]");
    assert!(settings.contains(&addresses), "{settings}");
    let table = format!(
        "\n[cas.pier]\ndirectory = \"{}\"\nterms-accepted = true\ntrust-root = \"{}\"\n",
        ca.directory,
        ca.https_root.display()
    );
    let text = settings.replace(&addresses, &format!("addresses = [\"{at}\"]")) + &table;
    fs::write(coast.path("settings.toml"), &text).unwrap();
    coast.run(&["init", "--settings", coast.path("settings.toml").to_str().unwrap()]).expect(0);
    coast.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    coast.delegate_here("crumbandtide.example");
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(0);

    let issue = ["certificate", "issue", "crumbandtide.example", "--ca", "pier", "--proof", "tls-alpn-01"];
    assert!(coast.run(&issue).expect(4).contains("tls-alpn-listen"));
    let listen_at = |address: SocketAddr| {
        let toml = coast.harbor().join("harbor.toml");
        let text = fs::read_to_string(&toml).unwrap();
        let lines: Vec<&str> = text.lines().filter(|line| !line.starts_with("tls-alpn-listen")).collect();
        let line = format!("[web]\ntls-alpn-listen = \"{address}\"");
        fs::write(&toml, lines.join("\n").replacen("[web]", &line, 1) + "\n").unwrap();
    };
    // Where the front passes them elsewhere, the CA is not even asked to look.
    listen_at((at, 0).into());
    let refused = coast.run(&issue).expect(4);
    assert!(refused.contains("the proof over TLS is not shown"), "{refused}");
    listen_at(responder);
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
