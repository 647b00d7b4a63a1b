//! `zone publish` among servers that others have set up: BIND as a consumer of the catalog, a catalog that was there
//! before, secondaries that take notifications from one address alone, and what they refuse.

use std::fs;
use std::net::SocketAddr;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_io::dns::transfer;
use brightharbor_io::server::ask_serial;

use super::nameservers::{TRANSFER, UPDATE, address_of_its_own, start_nsd};
use super::quay::{Quay, block_on, lines};
use super::servers::{Server, await_listener, need, start_bind_with};

fn secondary(name: &str, at: SocketAddr, more: &str) -> String {
    format!(
        "[[secondaries]]\nname = \"{name}.saltmarsh.example.\"\naddress = \"{at}\"\nkey-file = \
         \"{{keys}}/quay-transfer.key\"\n{more}"
    )
}

/// BIND as a secondary that takes its zones from the catalog of the server on 127.0.0.1. It listens on IPv4 loopback addresses
/// beside 127.0.0.1 only where it is told that they are there.
fn start_consumer(quay: &Quay, at: SocketAddr) -> Server {
    let home = quay.path("consumer");
    fs::create_dir(&home).unwrap();
    let primary = quay.server().port();
    let main = format!(
        "{key}options {{ directory \"{home}\"; pid-file \"{home}/named.pid\"; session-keyfile \"{home}/session.key\";\n\
         listen-on port {port} {{ {ip}; }}; listen-on-v6 {{ none; }}; recursion no; notify no; dnssec-validation no;\n\
         managed-keys-directory \"{home}\"; interface-interval 0; automatic-interface-scan no;\n\
         catalog-zones {{ zone \"zones.saltmarsh.example\" default-primaries {{ 127.0.0.1 port {primary} key \
         \"quay-transfer\"; }}; }};\nallow-transfer {{ 127.0.0.1; }}; }};\ncontrols {{ }};\n\
         zone \"zones.saltmarsh.example\" {{ type secondary; file \"catalog.db\"; primaries {{ 127.0.0.1 port {primary} key \
         \"quay-transfer\"; }}; }};\n",
        key = TRANSFER.text(),
        home = home.display(),
        port = at.port(),
        ip = at.ip(),
    );
    fs::write(home.join("named.conf"), main).unwrap();
    let server = Server::spawn(
        Command::new(need("named", "bind9"))
            .arg("-c")
            .arg(home.join("named.conf"))
            .args(["-f", "-n", "1"])
            .stderr(Stdio::null()),
    );
    await_listener(at);
    server
}

/// Waits until the server answers for the zone with a serial.
#[track_caller]
pub(super) fn await_zone(at: SocketAddr, zone: &str) -> u32 {
    let (zone, deadline) = (Hostname::parse(zone).unwrap(), Instant::now() + Duration::from_secs(20));
    loop {
        match block_on(ask_serial(at, &zone)) {
            Ok(serial) => return serial,
            Err(words) => assert!(Instant::now() < deadline, "{zone}: {words}"),
        }
        std::thread::sleep(Duration::from_millis(150));
    }
}

const CATALOG: &str = "catalog = \"zones.saltmarsh.example\"\n";

#[test]
fn bind_takes_new_zones_from_the_catalog_and_gives_removed_ones_up() {
    let quay = Quay::bind("", "", "");
    // BIND listens where an interface has the address: the second one has another port of the same.
    let at = SocketAddr::new(quay.server().ip(), super::internet::free_port());
    quay.settle(&format!("{CATALOG}{}", secondary("ns2", at, "")));
    for zone in ["gullrock.example", "crumbandtide.example"] {
        quay.run(&["zone", "create", zone, "--account", "boatyard"]).expect(0);
    }
    quay.run(&["zone", "publish", "--wait", "0"]);
    let _consumer = start_consumer(&quay, at);
    let published = quay.run(&["zone", "publish", "--wait", "30"]).expect(0);
    assert!(published.contains("All secondaries have all zones (2)"), "{published}");
    // A new zone comes by itself, a changed one is known at once, and a removed one goes.
    quay.run(&["zone", "create", "lanternchoir.example", "--account", "boatyard"]).expect(0);
    await_zone(at, "lanternchoir.example");
    quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(0);
    quay.run(&["zone", "publish", "--wait", "30"]).expect(0);
    assert_eq!(await_zone(at, "gullrock.example"), await_zone(quay.server(), "gullrock.example"));
    quay.run(&["zone", "remove", "crumbandtide.example", "--yes"]).expect(0);
    let deadline = Instant::now() + Duration::from_secs(20);
    let gone = Hostname::parse("crumbandtide.example").unwrap();
    while block_on(ask_serial(at, &gone)).is_ok() {
        assert!(Instant::now() < deadline, "still served");
        std::thread::sleep(Duration::from_millis(150));
    }
}

/// What a server that takes notifications from its primary alone says, and what the harbor makes of it.
#[test]
fn a_notification_leaves_from_the_address_that_the_secondary_knows_and_a_refusal_is_told() {
    let quay = Quay::bind("", "", "");
    let nsd = address_of_its_own(&quay.world.cast, 21);
    quay.run(&["zone", "create", "gullrock.example", "--account", "boatyard"]).expect(0);
    let primary = quay.server().port();
    let plain = format!(
        "zone:\n  name: \"gullrock.example\"\n  request-xfr: AXFR 127.0.0.1@{primary} quay-transfer\n\
         \x20 allow-notify: 127.0.0.77 quay-transfer\n"
    );
    let toml = quay.path("harbor/harbor.toml");
    let before = fs::read_to_string(&toml).unwrap();
    quay.settle(&secondary("ns3", nsd, ""));
    quay.run(&["zone", "publish", "--wait", "0"]);
    let _nsd = start_nsd(quay.folder.path(), nsd, &plain);
    quay.run(&["zone", "publish", "--wait", "30"]).expect(0);

    quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(0);
    let refused = quay.run(&["zone", "publish", "--wait", "1"]).expect(3);
    assert!(refused.contains("has serial") && refused.contains("and not yet"), "{refused}");
    assert!(refused.contains("notified: it answered"), "{refused}");
    let published = quay.json(&["zone", "publish", "--wait", "1"], 3);
    let server = &published["zones"][0]["servers"][1];
    assert!(server["notification"].as_str().is_some_and(|words| words.starts_with("answered")), "{published}");

    fs::write(&toml, &before).unwrap();
    quay.settle(&secondary("ns3", nsd, "notify-from = \"127.0.0.77\"\n"));
    quay.run(&["zone", "publish", "--wait", "20"]).expect(0);
    assert_eq!(await_zone(nsd, "gullrock.example"), await_zone(quay.server(), "gullrock.example"));

    // An address that this machine does not have.
    quay.run(&["record", "add", "buoy.gullrock.example", "A", "192.0.2.6"]).expect(0);
    fs::write(&toml, &before).unwrap();
    quay.settle(&secondary("ns3", nsd, "notify-from = \"192.0.2.77\"\n"));
    let refused = quay.run(&["zone", "publish", "--wait", "1"]).expect(3);
    assert!(refused.contains("nothing can be sent from 192.0.2.77"), "{refused}");
}

const OLD_CATALOG: &str = "; the co-op's catalog, by hand\n$TTL 3600\n@ SOA invalid. invalid. 2026010101 3600 600 2419200 60\n@ NS \
                           invalid.\nversion TXT \"2\"\nfirst.zones PTR harbor.example.\n";

/// BIND with a catalog of its own configuration, in `own.conf`.
fn with_own_catalog(definition: &str) -> (Quay, String) {
    let quay = Quay::new("bind", "named-checkzone", "", |world, folder| {
        fs::write(folder.join("catalog.db"), OLD_CATALOG).unwrap();
        fs::write(folder.join("own.conf"), own(folder, definition)).unwrap();
        let lines = format!(
            "{}{}include \"{}\";\ninclude \"{}\";\n",
            TRANSFER.text(),
            UPDATE.text(),
            folder.join("own.conf").display(),
            folder.join("harbor/servers/bind/zones.conf").display()
        );
        start_bind_with(&world.cast, folder, &lines, "")
    });
    let at = address_of_its_own(&quay.world.cast, 20);
    let main_file = quay.path("bind/named.conf").display().to_string();
    quay.settle(&format!("{CATALOG}main-file = \"{main_file}\"\n{}", secondary("ns2", at, "")));
    let own = own(quay.folder.path(), definition);
    (quay, own)
}

fn own(folder: &Path, definition: &str) -> String {
    let file = folder.join("catalog.db").display().to_string();
    format!("zone \"zones.saltmarsh.example\" {{ {} }};\n", definition.replace("FILE", &file))
}

#[test]
fn a_catalog_that_was_there_before_is_joined_and_keeps_its_other_members() {
    let (quay, own) = with_own_catalog("type primary; file \"FILE\"; allow-transfer { 127.0.0.1; };");
    let file = quay.path("catalog.db");
    quay.run(&["zone", "create", "gullrock.example", "--account", "boatyard"]).expect(0);
    let first = quay.run(&["zone", "publish", "--wait", "0"]).stdout;
    assert!(first.contains("Joined catalog zone zones.saltmarsh.example"), "{first}");
    let held = |member: &str| {
        let zone = DnsName::absolute("zones.saltmarsh.example").unwrap();
        let records = block_on(transfer(quay.server(), &zone, None)).unwrap();
        lines(&records).iter().any(|line| line.contains("PTR") && line.contains(member))
    };
    assert!(held("gullrock.example.") && held("harbor.example."), "both");
    assert!(fs::read_to_string(&file).unwrap().starts_with("; the co-op's catalog, by hand\n"));
    assert_eq!(fs::read_to_string(quay.path("own.conf")).unwrap(), own, "defined where it was");
    // From then on as a catalog of the harbor's own, and nobody else's member goes.
    quay.run(&["zone", "create", "crumbandtide.example", "--account", "boatyard"]).expect(0);
    assert!(held("crumbandtide.example."));
    quay.run(&["zone", "remove", "gullrock.example", "--yes"]).expect(0);
    quay.run(&["zone", "publish", "--wait", "0"]);
    assert!(!held("gullrock.example.") && held("crumbandtide.example.") && held("harbor.example."));
}

#[test]
fn a_catalog_that_cannot_be_joined_stays_and_is_told() {
    let (quay, _) = with_own_catalog("type secondary; primaries { 127.0.0.99; };");
    let refused = quay.run(&["zone", "publish"]).expect(4);
    assert!(refused.contains("but is not its primary") && refused.contains("own.conf:1"), "{refused}");
}
