//! Visitors of nginx and Apache httpd who ask for a host that nobody has, or for none: they get no page and no certificate
//! of any site, from the first site to the last one, and what somebody else has said about them counts.

use std::fs;
use std::net::SocketAddr;
use std::process::{Command, Stdio};

use brightharbor_io::http::Connection;

use super::already_there::with_hand_written_site;
use super::quay::block_on;
use super::servers::need;
use super::voyage::Port;

/// Status and text of the front page over http.
fn page(port: &Port, host: &str) -> (u16, String) {
    let cast = &port.world.cast;
    let at = SocketAddr::new(cast.web(), cast.http_port);
    block_on(async {
        let mut connection = Connection::open(at, host, host, None).await.unwrap();
        let answer = connection.send("GET", "/", &[], vec![], 100_000).await.unwrap();
        (answer.status, String::from_utf8_lossy(&answer.body).into_owned())
    })
}

/// Whether a certificate is shown to somebody who asks for this name, or for none.
fn shows_a_certificate(port: &Port, name: Option<&str>) -> bool {
    let cast = &port.world.cast;
    let at = SocketAddr::new(cast.web(), cast.https_port).to_string();
    let named = name.map_or(vec!["-noservername"], |name| vec!["-servername", name]);
    let mut openssl = Command::new(need("openssl", "openssl"));
    let asked = openssl.args(["s_client", "-connect", &at]).args(named).stdin(Stdio::null()).output().unwrap();
    let said = String::from_utf8_lossy(&asked.stdout);
    assert!(said.contains("CONNECTED"), "{name:?}: {asked:?}");
    said.contains("BEGIN CERTIFICATE")
}

fn nobody_gets_nothing(kind: &str) {
    let port = Port::new(kind);
    let missing = (404, "There is no such page here.".to_string());
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.delegate_here("crumbandtide.example");
    port.run(&["attach", "crumbandtide.example", "--account", "bakery"]);
    assert_ne!(page(&port, "crumbandtide.example").0, 404);
    assert_eq!(page(&port, "nobody.example"), missing);
    assert_eq!(page(&port, "192.0.2.1"), missing);
    port.tend_until_served();
    port.openssl_verifies("crumbandtide.example");
    for unknown in [None, Some("nobody.example"), Some("gullrock.example")] {
        assert!(!shows_a_certificate(&port, unknown), "{unknown:?}");
    }
    // A site of its own begins without a certificate: it is not answered with that of another.
    port.run(&["attach", "lanternchoir.example", "--account", "bakery", "--yes"]).expect(3);
    assert_eq!(page(&port, "lanternchoir.example").0, 200);
    assert!(!shows_a_certificate(&port, Some("lanternchoir.example")));
    port.openssl_verifies("crumbandtide.example");

    // A harbor of before that there was such a file gets all of it with the next change of a site, whatever that is about.
    let folder = port.path("harbor/servers").join(kind);
    for file in ["+~unknown-hosts.conf", "+~unknown-hosts.pem"] {
        let _ = fs::remove_file(folder.join(file));
    }
    port.reload_web();
    assert!(shows_a_certificate(&port, None));
    port.run(&["site", "change", "lanternchoir.example", "--www", "to-bare"]).expect(0);
    assert!(!shows_a_certificate(&port, None));

    // Nothing is left with the last site.
    let files = || {
        let all = fs::read_dir(&folder).unwrap().map(|file| file.unwrap().file_name().into_string().unwrap());
        all.filter(|name| name.contains("unknown")).count()
    };
    assert_eq!(files(), if kind == "apache" { 2 } else { 1 });
    port.run(&["detach", "lanternchoir.example", "--yes"]).expect(0);
    assert_ne!(files(), 0);
    port.run(&["detach", "crumbandtide.example", "--yes"]).expect(0);
    assert_eq!(files(), 0);
}

#[test]
fn nobody_gets_nothing_from_nginx() {
    nobody_gets_nothing("nginx");
}

#[test]
fn nobody_gets_nothing_from_apache() {
    nobody_gets_nothing("apache");
}

/// An administrator has said who answers: the first block of the server's own file, with and without saying so.
#[test]
fn what_somebody_else_has_for_them_stays() {
    for declared in [false, true] {
        let port = Port::new("nginx");
        port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
        let (file, _) = with_hand_written_site(&port, "nginx");
        if declared {
            let listen = format!("listen {}:{}", port.world.cast.web(), port.world.cast.http_port);
            let main = fs::read_to_string(&file).unwrap();
            fs::write(&file, main.replace(&listen, &format!("{listen} default_server"))).unwrap();
            port.reload_web();
        }
        assert_eq!(page(&port, "nobody.example"), (200, "written by hand".into()));
        port.run(&["attach", "crumbandtide.example", "--account", "bakery"]);
        assert_eq!(page(&port, "crumbandtide.example").0, 200);
        assert_eq!(page(&port, "nobody.example"), (200, "written by hand".into()), "{declared}");
    }
}
