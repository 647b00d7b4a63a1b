//! Every changing command beside a populated harbor on real servers: live sites with HSTS and certificates, one that somebody has
//! written by hand, mail records. Visitors ask for all of it all the time, and no answer about a name that was not meant gets
//! worse, not even for a moment.

use brightharbor_core::zone::RecordType;

use super::already_there::with_hand_written_site;
use super::monitor::{Asked, Monitor};
use super::voyage::Port;

/// Commands about other names and accounts than those that are watched, with their exit codes.
const COMMANDS: &[(&str, &[i32])] = &[
    ("plan add small --addon-domains 9", &[0]),
    ("account add choir --email choir@saltmarsh.example --plan small", &[0]),
    ("attach lanternchoir.example --account choir", &[0, 3]),
    ("attach hymns.lanternchoir.example --account choir", &[0, 3]),
    ("attach notyet.example --account choir --same-as lanternchoir.example", &[0, 3]),
    ("attach shop.crumbandtide.example --account bakery", &[0, 3]),
    ("attach cdn.crumbandtide.example --account bakery --served-by edge.network.example", &[0, 1, 3]),
    ("attach driftwood.example --account choir --no-site", &[0, 1, 3]),
    ("zone create quay.example --account choir", &[0]),
    ("zone change quay.example --mail none", &[0]),
    ("zone realign --all", &[0]),
    ("record add tide.crumbandtide.example TXT seven", &[0]),
    ("record replace tide.crumbandtide.example TXT eight", &[0]),
    ("record remove tide.crumbandtide.example TXT", &[0]),
    ("redirect add lanternchoir.example/old /new --with-twin", &[0]),
    ("redirect remove lanternchoir.example/old --with-twin", &[0]),
    ("site change hymns.lanternchoir.example --tls 1.3", &[0]),
    ("site change lanternchoir.example --account bakery", &[0]),
    ("site change lanternchoir.example --account choir", &[0]),
    ("site realign --all", &[0]),
    ("certificate self-sign hymns.lanternchoir.example", &[0, 4]),
    ("certificate request lanternchoir.example", &[0]),
    ("certificate issue lanternchoir.example", &[0, 3]),
    ("certificate issue shop.crumbandtide.example", &[0]),
    ("certificate issue shop.crumbandtide.example --wildcard", &[0]),
    ("certificate renew shop.crumbandtide.example", &[0]),
    ("certificate revoke shop.crumbandtide.example --reason superseded", &[0]),
    ("tend", &[0, 3]),
    ("ca change-key", &[0]),
    ("ca tell-contact", &[0, 4]),
    ("detach notyet.example --zone remove", &[0]),
    ("detach cdn.crumbandtide.example", &[0]),
    ("detach shop.crumbandtide.example", &[0]),
    ("detach driftwood.example --zone remove", &[0]),
    ("zone remove quay.example", &[0]),
    ("account remove choir --sites detach", &[0]),
    ("plan remove small", &[0]),
];

fn watched(port: &Port) -> Vec<Asked> {
    let mut asked: Vec<Asked> =
        ["crumbandtide.example", "www.crumbandtide.example"].iter().flat_map(|host| Asked::host(host)).collect();
    asked.push(Asked::Page { host: "old.example".into(), https: false });
    for (name, kind) in [("@", RecordType::MX), ("@", RecordType::TXT), ("www", RecordType::A), ("@", RecordType::NS)] {
        let name = if name == "@" { "crumbandtide.example".into() } else { format!("{name}.crumbandtide.example") };
        asked.push(Asked::records("crumbandtide.example", &name, kind));
    }
    assert!(port.world.cast.web().is_ipv4());
    asked
}

fn nothing_gets_worse(kind: &str) {
    let port = Port::new(kind);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.delegate_here("crumbandtide.example");
    port.delegate_here("lanternchoir.example");
    port.run(&["attach", "crumbandtide.example", "--account", "bakery"]);
    port.run(&["record", "add", "crumbandtide.example", "MX", "10 mx.tidemail.example."]).expect(0);
    port.run(&["record", "add", "crumbandtide.example", "TXT", "v=spf1 mx -all"]).expect(0);
    port.tend_until_served();
    port.run(&["site", "change", "crumbandtide.example", "--hsts", "1h"]).expect(0);
    with_hand_written_site(&port, kind);
    for (command, exits) in COMMANDS {
        let words: Vec<&str> = command.split(' ').collect();
        let monitor = Monitor::start(&port.world.cast, &port.ca.root, watched(&port));
        let run = port.run(&words);
        assert!(exits.contains(&run.exit), "{command}: {run:?}");
        monitor.found_nothing_worse(command);
    }
    // What was not meant is as it was, after all of it.
    assert_eq!(
        port.json(&["survey", "crumbandtide.example", "www.crumbandtide.example"], 0)["surveys"][1]["all_hold"],
        true
    );
    port.openssl_verifies("www.crumbandtide.example");
}

#[test]
fn nothing_gets_worse_with_nginx() {
    nothing_gets_worse("nginx");
}

#[test]
fn nothing_gets_worse_with_apache() {
    nothing_gets_worse("apache");
}
