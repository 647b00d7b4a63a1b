//! A domain that nobody has registered yet joins a site that is live: nothing that the site has gets worse, no certificate
//! is ordered again and again, and the domain gets its own as soon as it leads here.

use std::fs;

use serde_json::json;

use super::monitor::{Asked, Monitor};
use super::voyage::Port;
use brightharbor_core::zone::RecordType;

fn live(port: &Port) -> Vec<Asked> {
    let mut asked: Vec<Asked> =
        ["crumbandtide.example", "www.crumbandtide.example"].iter().flat_map(|host| Asked::host(host)).collect();
    asked.push(Asked::records("crumbandtide.example", "www.crumbandtide.example", RecordType::A));
    asked.push(Asked::records("crumbandtide.example", "crumbandtide.example", RecordType::MX));
    assert!(port.world.cast.web().is_ipv4());
    asked
}

/// The CA's resolver may still have it that there is no such name: then the name pauses until that is over, and the next
/// run gets the certificate.
fn tend_until_nothing_waits(port: &Port) -> serde_json::Value {
    for _ in 0..80 {
        let run = port.run(&["tend", "--json"]);
        let tended: serde_json::Value = serde_json::from_str(&run.stdout).unwrap();
        if run.exit == 0 {
            return tended;
        }
        assert_eq!(run.exit, 3, "{tended}");
        for paused in tended["paused"].as_array().unwrap() {
            assert!(paused["name"].as_str().unwrap().ends_with("notyet.example"), "a name pauses by itself: {tended}");
        }
        std::thread::sleep(std::time::Duration::from_millis(250));
    }
    panic!("no certificate, though the old answer has long left the caches");
}

fn certificates(port: &Port) -> usize {
    fs::read_dir(port.path("harbor/certificates/crumbandtide.example")).unwrap().count()
}

fn an_unregistered_domain_joins_a_live_site(kind: &str) {
    let port = Port::new(kind);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.delegate_here("crumbandtide.example");
    port.run(&["attach", "crumbandtide.example", "--account", "bakery"]);
    port.tend_until_served();
    port.run(&["site", "change", "crumbandtide.example", "--hsts", "1h", "--yes"]).expect(0);
    let monitor = Monitor::start(&port.world.cast, &port.ca.root, live(&port));
    let attach = ["attach", "notyet.example", "--account", "bakery", "--same-as", "crumbandtide.example"];
    let attached = port.json(&attach, 3);
    for survey in attached["surveys"].as_array().unwrap() {
        assert_eq!(survey["stops_at"], "registered", "its links are its own domain's: {survey}");
    }
    // What is known of the live names says nothing about the new one, and nothing is ordered for it.
    let before = certificates(&port);
    for _ in 0..4 {
        let tended = port.json(&["tend"], 3);
        let left_out = tended["tried"][0]["left_out"].as_array().unwrap();
        assert_eq!(left_out[0]["name"], "notyet.example", "{tended}");
    }
    assert_eq!(certificates(&port), before, "no certificate is ordered that covers no more");
    let sites = port.json(&["site", "list"], 0);
    let https = |sites: &serde_json::Value, at: usize| sites["sites"][0]["hosts"][at]["https"].clone();
    let states: Vec<_> = (0..4).map(|at| https(&sites, at)).collect();
    assert_eq!(states, ["forced", "forced", "none", "none"]);
    assert_eq!(port.json(&["survey", "crumbandtide.example"], 0)["surveys"][0]["all_hold"], true);
    monitor.found_nothing_worse("an alias domain that nobody has registered");

    // Its DNS comes later: then it gets https, and the others keep theirs.
    let monitor = Monitor::start(&port.world.cast, &port.ca.root, live(&port));
    port.delegate_here("notyet.example");
    let tended = tend_until_nothing_waits(&port);
    let names = ["crumbandtide.example", "www.crumbandtide.example", "notyet.example", "www.notyet.example"];
    assert_eq!(tended["tried"][0]["names"], json!(names), "{tended}");
    assert_eq!(certificates(&port), before + 1);
    monitor.found_nothing_worse("its certificate");
    for name in ["notyet.example", "www.notyet.example"] {
        port.openssl_verifies(name);
        assert_eq!(port.json(&["survey", name], 0)["surveys"][0]["all_hold"], true);
    }
    // It leaves again, and a tend later nothing has changed for those that stay.
    let monitor = Monitor::start(&port.world.cast, &port.ca.root, live(&port));
    port.run(&["detach", "notyet.example", "--yes"]).expect(0);
    port.run(&["tend"]).expect(0);
    monitor.found_nothing_worse("it is detached");
    assert_eq!(certificates(&port), before + 1);
}

#[test]
fn an_unregistered_domain_joins_a_live_site_with_nginx() {
    an_unregistered_domain_joins_a_live_site("nginx");
}

#[test]
fn an_unregistered_domain_joins_a_live_site_with_apache() {
    an_unregistered_domain_joins_a_live_site("apache");
}
