//! Zones that are changed by UPDATE on a real BIND: on a primary elsewhere, and here where it holds them as dynamic.

use std::fs;
use std::os::unix::fs::PermissionsExt;

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Document, Record, Update};
use brightharbor_io::dns::{Notification, RequestProblem, notify, send_update, takes_updates};

use super::quay::{Quay, block_on, compiled, lines};

const CHOIR: &str = "$TTL 3600\n@ IN SOA ns1.saltmarsh.example. host.saltmarsh.example. 7 14400 1800 2419200 300\n\
                     @ IN NS ns1.saltmarsh.example.\n@ IN A 192.0.2.1\nwww IN A 192.0.2.1\nold IN TXT \"kept\"\n";

const PRIMARY: &str = "[primaries.choirhouse]\naddress = \"127.0.0.1\"\nkey-file = \"{keys}/quay-update.key\"\n";

const CREATE: [&str; 8] =
    ["zone", "create", "lanternchoir.example", "--account", "boatyard", "--home", "remote", "--primary"];

/// BIND with the choir's zone, which is dynamic and not of this harbor.
fn with_choir(settings: &str) -> Quay {
    let zone = "zone \"lanternchoir.example\" { type primary; file \"{folder}/choir.zone\"; \
                allow-update { key \"quay-update\"; }; allow-transfer { key \"quay-update\"; }; };\n";
    let quay = Quay::bind(settings, zone, "");
    fs::write(quay.path("choir.zone"), CHOIR).unwrap();
    quay.control(&["reload"]);
    quay
}

#[test]
fn a_remote_zone_is_read_by_transfer_and_changed_by_update() {
    let quay = with_choir(PRIMARY);
    let created = quay.run(&[&CREATE[..], &["choirhouse"]].concat()).expect(0);
    assert!(created.contains("kept on its primary server (5 records, serial 7)"), "{created}");
    let unknown = ["zone", "create", "gullrock.example", "--account", "boatyard", "--home", "remote", "--primary", "x"];
    assert!(quay.run(&unknown).expect(4).contains("[primaries.x]"));

    // The same commands and the same diff as for a file; a dry run changes nothing.
    let add = ["record", "add", "www.lanternchoir.example", "A", "192.0.2.2", "192.0.2.3"];
    let dry = quay.run(&[&add[..], &["--dry-run"]].concat()).expect(0);
    assert!(dry.contains("+www.lanternchoir.example. 3600 IN A 192.0.2.2"), "{dry}");
    assert_eq!(quay.json(&add, 0)["added"].as_array().unwrap().len(), 2);
    quay.run(&["record", "replace", "@", "A", "192.0.2.9", "--ttl", "600", "--zone", "lanternchoir.example"]).expect(0);
    quay.run(&["record", "remove", "www.lanternchoir.example", "A", "192.0.2.1"]).expect(0);
    quay.run(&["record", "add", "_dmarc.lanternchoir.example", "TXT", "v=DMARC1; p=none"]).expect(0);
    quay.run(&["record", "add", "@", "HTTPS", "1 . alpn=h2", "--zone", "lanternchoir.example"]).expect(0);
    quay.run(&["record", "replace", "old.lanternchoir.example", "TXT", "new"]).expect(0);
    let expected = quay.path("expected.zone");
    let text = "$TTL 3600\n@ IN SOA a. b. 7 1 1 1 1\n@ NS ns1.saltmarsh.example.\n@ 600 A 192.0.2.9\nwww A 192.0.2.2\n\
                www A 192.0.2.3\n_dmarc TXT \"v=DMARC1; p=none\"\n@ HTTPS 1 . alpn=h2\nold TXT new\n";
    fs::write(&expected, text).unwrap();
    let held = quay.path("held.zone");
    let records = quay.held("lanternchoir.example", "quay-update");
    fs::write(&held, records.iter().map(|record| format!("{record}\n")).collect::<String>()).unwrap();
    assert_eq!(compiled(&held, "lanternchoir.example"), compiled(&expected, "lanternchoir.example"));

    // Refusals are the same too, and the page and the list know where the zone is.
    let refused = quay.run(&["record", "add", "www.lanternchoir.example", "CNAME", "lanternchoir.example."]).expect(4);
    assert!(refused.contains("alias-beside-data"), "{refused}");
    let page = quay.run(&["zone", "show", "lanternchoir.example"]).expect(0);
    assert!(page.contains("kept remote, serial 13") && page.contains("changed by UPDATE at 127.0.0.1"), "{page}");
    let listed = quay.json(&["zone", "list"], 0);
    assert_eq!((&listed["zones"][0]["home"], &listed["zones"][0]["serial"]), (&"remote".into(), &13.into()));
    assert_eq!(quay.json(&["record", "list", "lanternchoir.example"], 0)["serial"], 13);
    let attached = quay.run(&["attach", "hall.lanternchoir.example", "--account", "boatyard"]);
    assert!(
        attached.stdout.contains("zone lanternchoir.example: hall.lanternchoir.example. 3600 IN A 192.0.2.10"),
        "{attached:?}"
    );
    assert_eq!(fs::read_to_string(quay.path("choir.zone")).unwrap(), CHOIR, "the server's file is the server's");
}

#[test]
fn a_key_that_others_can_read_or_that_the_server_does_not_know_is_told() {
    let quay = with_choir(PRIMARY);
    let create = [&CREATE[..], &["choirhouse"]].concat();
    let key = quay.path("quay-update.key");
    fs::set_permissions(&key, fs::Permissions::from_mode(0o644)).unwrap();
    assert!(quay.run(&create).expect(4).contains("chmod 600"));
    fs::set_permissions(&key, fs::Permissions::from_mode(0o600)).unwrap();
    let right = fs::read_to_string(&key).unwrap();
    fs::write(&key, right.replace("quay-update", "quay-other")).unwrap();
    assert!(quay.run(&create).expect(4).contains("does not know the key `quay-other`"));
    fs::write(&key, right.replace("dXBk", "AXBk")).unwrap();
    assert!(quay.run(&create).expect(4).contains("another secret for the key `quay-update`"));
    fs::write(&key, &right).unwrap();
    quay.run(&create).expect(0);
}

#[test]
fn an_update_that_rests_on_old_data_changes_nothing() {
    let quay = with_choir("");
    let (zone, key) = (DnsName::absolute("lanternchoir.example").unwrap(), quay.key("quay-update"));
    let read = Document::of_records(&quay.held("lanternchoir.example", "quay-update"), &zone).unwrap();
    let record = |text: &str| -> Record {
        let text = format!("@ 60 SOA a. b. 1 1 1 1 1\n{text}\n");
        Document::parse(text, &zone).unwrap().records().nth(1).unwrap().clone()
    };
    let mine = Update::new(&read, &[], &[record("www 3600 A 192.0.2.8")]);
    let theirs = Update::new(&read, &[], &[record("www 3600 A 192.0.2.7")]);
    block_on(send_update(quay.server(), &theirs, &key)).unwrap();
    let refused = block_on(send_update(quay.server(), &mine, &key)).unwrap_err();
    assert!(matches!(refused.problem, RequestProblem::ChangedMeanwhile), "{refused}");
    let held = lines(&quay.held("lanternchoir.example", "quay-update"));
    assert!(held.iter().any(|line| line.ends_with("192.0.2.7")), "{held:?}");
    assert!(!held.iter().any(|line| line.ends_with("192.0.2.8")), "{held:?}");
    // Taking back works while nobody has changed the set since, and is harmless afterwards.
    block_on(send_update(quay.server(), &theirs.inverse(), &key)).unwrap();
    assert!(block_on(send_update(quay.server(), &theirs.inverse(), &key)).is_err());
    assert_eq!(lines(&quay.held("lanternchoir.example", "quay-update")).len(), 4);
    assert!(!block_on(takes_updates(quay.server(), &zone, &quay.key("quay-transfer"))).unwrap());
    let unknown = DnsName::absolute("gullrock.example").unwrap();
    let told = Notification { server: quay.server(), from: None, zone: unknown };
    let not_there = block_on(notify(&told, None)).unwrap_err();
    assert!(matches!(not_there.problem, RequestProblem::Answered(word) if word == "NOTAUTH"));
}

#[test]
fn a_zone_that_the_server_here_holds_as_dynamic_is_changed_by_update_and_never_through_its_file() {
    let quay = Quay::bind("update-key-file = \"{keys}/quay-update.key\"\n", "", "");
    for zone in ["gullrock.example", "crumbandtide.example"] {
        quay.run(&["zone", "create", zone, "--account", "boatyard"]).expect(0);
    }
    // The administrator makes one of them dynamic, by hand, in the list that the harbor keeps.
    let parts = fs::read_dir(quay.path("harbor/servers/bind/parts")).unwrap().map(|entry| entry.unwrap().path());
    let part = parts.into_iter().find(|part| fs::read_to_string(part).unwrap().contains("gullrock")).unwrap();
    let key = "allow-update { key \"quay-update\"; }; allow-transfer { key \"quay-update\"; }; };";
    let text = fs::read_to_string(&part).unwrap();
    let edited = text.lines().map(|line| if line.contains("gullrock") { line.replace("};", key) } else { line.into() });
    fs::write(&part, edited.collect::<Vec<_>>().join("\n") + "\n").unwrap();
    quay.control(&["reconfig"]);

    let zone_file = quay.path("harbor/zones/gullrock.example.zone");
    let before = fs::read(&zone_file).unwrap();
    let added = quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(0);
    assert!(added.contains("+crane.gullrock.example. 3600 IN A 192.0.2.5"), "{added}");
    assert_eq!(fs::read(&zone_file).unwrap(), before);
    let held = lines(&quay.held("gullrock.example", "quay-update"));
    assert!(held.contains(&"crane.gullrock.example. 3600 IN A 192.0.2.5".to_string()), "{held:?}");
    // The other one is not dynamic: its file is edited as ever.
    quay.run(&["record", "add", "shop.crumbandtide.example", "A", "192.0.2.4"]).expect(0);
    let file = fs::read_to_string(quay.path("harbor/zones/crumbandtide.example.zone")).unwrap();
    assert!(file.contains("shop\t3600\tIN\tA\t192.0.2.4"), "{file}");

    // Without the key, the journal beside the file tells that the file is not the truth any more.
    let toml = quay.path("harbor/harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    let without = text.lines().filter(|line| !line.starts_with("update-key-file")).collect::<Vec<_>>().join("\n");
    fs::write(&toml, without).unwrap();
    let refused = quay.json(&["record", "add", "pier.gullrock.example", "A", "192.0.2.6"], 4);
    assert_eq!(refused["error"]["code"], "dynamic-zone", "{refused}");
    assert_eq!(fs::read(&zone_file).unwrap(), before);
}

#[test]
fn an_update_is_taken_back_when_what_comes_after_it_fails() {
    let quay = with_choir(PRIMARY);
    quay.run(&[&CREATE[..], &["choirhouse"]].concat()).expect(0);
    let before = lines(&quay.held("lanternchoir.example", "quay-update"));
    // The web server's reload comes after the zones, and fails the first time.
    let reload = "[\"sh\", \"-c\", \"test -e {keys}/once || { touch {keys}/once; exit 1; }\"]";
    quay.settle(&format!("[web]\nserver = \"nginx\"\ntest = [\"true\"]\nreload = {reload}\n"));
    fs::create_dir_all(quay.path("harbor/servers/nginx")).unwrap();
    let failed = quay.run(&["attach", "hall.lanternchoir.example", "--account", "boatyard"]).expect(5);
    assert!(failed.contains("everything was rolled back"), "{failed}");
    assert_eq!(lines(&quay.held("lanternchoir.example", "quay-update")), before);
    assert_eq!(quay.json(&["logbook"], 0)["entries"][0]["outcome"], "rolled back");
}
