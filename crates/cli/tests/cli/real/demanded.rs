//! What a certificate's seller wants to see as records: on a real BIND, in a zone file here and by UPDATE at a primary.

use std::fs;

use serde_json::{Value, json};

use super::quay::{Quay, lines};

const ZONE: &str = "$TTL 300\n@ IN SOA ns1.saltmarsh.example. host.saltmarsh.example. 7 14400 1800 2419200 300\n\
                    @ IN NS ns1.saltmarsh.example.\n@ IN NS ns2.saltmarsh.example.\n@ IN A 192.0.2.1\n";

const RECORDS: [&str; 4] = ["--record", "_5f3a CNAME 9c1e.seller.example.", "--record", "@ IN TXT seller-check=7d1"];

fn delegated(quay: &Quay, domain: &str) {
    let names = ["ns1.saltmarsh.example", "ns2.saltmarsh.example"];
    quay.world.registrar.set_nameservers(domain, &names).unwrap();
}

fn seen(answer: &Value) -> Vec<bool> {
    answer["proofs"].as_array().unwrap().iter().map(|proof| proof["seen"].as_bool().unwrap()).collect()
}

/// What the seller's records are in the words of a transfer.
fn sellers(quay: &Quay, domain: &str, key: &str) -> Vec<String> {
    lines(&quay.held(domain, key)).into_iter().filter(|line| line.contains("seller")).collect()
}

#[test]
fn records_in_a_zone_file_here_are_seen_at_the_servers_and_go_again() {
    let quay = Quay::bind("", "", "");
    delegated(&quay, "gullrock.example");
    quay.run(&["attach", "gullrock.example", "--account", "boatyard"]);
    let before = lines(&quay.held("gullrock.example", "quay-transfer"));
    let prove = |more: &[&str], exit| quay.json(&[&["certificate", "prove", "gullrock.example"], more].concat(), exit);
    assert_eq!(seen(&prove(&RECORDS, 0)), [true, true]);
    assert_eq!(
        sellers(&quay, "gullrock.example", "quay-transfer"),
        [
            "_5f3a.gullrock.example. 3600 IN CNAME 9c1e.seller.example.",
            "gullrock.example. 3600 IN TXT \"seller-check=7d1\"",
        ]
    );
    assert_eq!(prove(&["--remove"], 0)["removed"], json!(true));
    let after = lines(&quay.held("gullrock.example", "quay-transfer"));
    let without_serial = |lines: &[String]| lines.iter().filter(|l| !l.contains("SOA")).cloned().collect::<Vec<_>>();
    assert_eq!(without_serial(&after), without_serial(&before));
}

#[test]
fn records_at_a_remote_primary_come_and_go_by_update() {
    let primary = "[primaries.choirhouse]\naddress = \"127.0.0.1\"\nkey-file = \"{keys}/quay-update.key\"\n";
    let zone = "zone \"lanternchoir.example\" { type primary; file \"{folder}/choir.zone\"; \
                allow-update { key \"quay-update\"; }; allow-transfer { key \"quay-update\"; }; };\n";
    let quay = Quay::bind(primary, zone, "");
    fs::write(quay.path("choir.zone"), ZONE).unwrap();
    quay.control(&["reload"]);
    delegated(&quay, "lanternchoir.example");
    let create = ["zone", "create", "lanternchoir.example", "--account", "boatyard", "--home", "remote"];
    quay.run(&[&create[..], &["--primary", "choirhouse"]].concat()).expect(0);
    quay.run(&["attach", "lanternchoir.example", "--account", "boatyard"]);
    let prove =
        |more: &[&str], exit| quay.json(&[&["certificate", "prove", "lanternchoir.example"], more].concat(), exit);
    assert_eq!(seen(&prove(&RECORDS, 0)), [true, true]);
    assert_eq!(sellers(&quay, "lanternchoir.example", "quay-update").len(), 2);
    // Taken out by somebody else, it comes back with the timer's next run.
    quay.run(&["record", "remove", "lanternchoir.example", "TXT", "seller-check=7d1"]).expect(0);
    assert_eq!(sellers(&quay, "lanternchoir.example", "quay-update").len(), 1);
    quay.run(&["tend"]);
    assert_eq!(sellers(&quay, "lanternchoir.example", "quay-update").len(), 2);
    prove(&["--remove"], 0);
    assert_eq!(sellers(&quay, "lanternchoir.example", "quay-update"), [""; 0]);
    assert_eq!(fs::read_to_string(quay.path("choir.zone")).unwrap(), ZONE, "the server's file is the server's");
}
