//! Taking back on real servers: a site with its zone, certificate and pool of PHP comes back as visitors knew it, and the DNS
//! server has the former records under a higher serial.

use super::php_pools::{Fpm, page, with_two_accounts};
use super::voyage::Port;

fn comes_back(kind: &str) {
    let port = Port::new(kind);
    let fpm = Fpm::start(&port.path("."));
    with_two_accounts(&port, &fpm);
    let site = "crumbandtide.example";
    let serial = || port.json(&["zone", "show", site], 0)["serial"].as_u64().unwrap();
    let records = || {
        let all = port.json(&["record", "list", site], 0)["records"].clone();
        all.as_array().unwrap().iter().filter(|record| record["type"] != "SOA").cloned().collect::<Vec<_>>()
    };
    let (before, old) = (records(), serial());
    port.json(&["record", "replace", site, "A", "192.0.2.77"], 0);
    assert_ne!(records(), before);
    port.json(&["undo"], 0);
    assert_eq!(records(), before);
    // What the server answers with is what the file says: zone list asks it.
    let listed = port.json(&["zone", "list"], 0);
    let is_served = |zone: &serde_json::Value| {
        let servers = zone["servers"].as_array().unwrap();
        !servers.is_empty() && servers.iter().all(|server| server["in_step"] == true)
    };
    let zones = listed["zones"].as_array().unwrap();
    assert!(zones.len() == 2 && zones.iter().all(is_served), "{listed}");
    assert!(serial() > old + 1, "{kind}");

    let file = std::fs::read(port.path(&format!("harbor/servers/{kind}/{site}.conf"))).unwrap();
    port.json(&["detach", site, "--zone", "remove", "--yes"], 0);
    assert!(!port.path("pools/brightharbor-bakery.conf").exists());
    port.json(&["undo"], 0);
    assert_eq!(std::fs::read(port.path(&format!("harbor/servers/{kind}/{site}.conf"))).unwrap(), file);
    let (status, text) = page(&port, site, "/", vec![]);
    assert_eq!((status, text.lines().next()), (200, Some("user games")), "{kind}: {text}");
    let survey = port.json(&["survey", site], 0);
    assert_eq!(survey["exit"], 0, "{survey}");
    assert_eq!(port.json(&["certificate", "check", site], 0)["exit"], 0);
    assert_eq!(port.json(&["tend"], 0)["out_of_step"], serde_json::json!([]));
    assert_eq!(page(&port, "lanternchoir.example", "/", vec![]).0, 200);
}

#[test]
fn a_site_comes_back_on_nginx() {
    comes_back("nginx");
}

#[test]
fn a_site_comes_back_on_apache() {
    comes_back("apache");
}
