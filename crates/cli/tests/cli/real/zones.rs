//! The life of zones on real primaries, BIND, Knot DNS and NSD; and their way to secondaries: one Knot that takes new
//! zones from the catalog, one plain NSD.

use std::fs;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::RecordType;
use brightharbor_io::dns::{RequestProblem, TransactionKey, ask, transfer};
use brightharbor_standins::World;

use super::nameservers::{TRANSFER, address_of_its_own, start_knot, start_nsd};
use super::quay::{Quay, block_on, compiled, lines};
use super::servers::open_folder;

/// Made, changed, brought in step, refused.
fn life_of_a_zone(quay: &Quay) {
    quay.run(&["zone", "create", "gullrock.example", "--account", "boatyard", "--mail", "none"]).expect(0);
    quay.run(&["zone", "create", "crumbandtide.example", "--account", "boatyard"]).expect(0);
    quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(0);
    quay.run(&["record", "replace", "www.gullrock.example", "A", "192.0.2.6"]).expect(0);
    let toml = quay.path("harbor/harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, text.replace("192.0.2.10", "192.0.2.20")).unwrap();
    let looked = quay.run(&["zone", "realign"]).expect(3);
    assert!(looked.contains("2 of 2 zones differ"), "{looked}");
    let realigned = quay.run(&["zone", "realign", "--all"]).expect(0);
    assert!(realigned.contains("kept, added or edited since it was made: www.gullrock.example A"), "{realigned}");
    for zone in ["gullrock.example", "crumbandtide.example"] {
        let shown = quay.json(&["zone", "show", zone], 0);
        assert_eq!(shown["servers"][0]["in_step"], true, "{shown}");
    }
    let file = quay.path("harbor/zones/gullrock.example.zone");
    let printed = quay.run(&["zone", "print", file.to_str().unwrap(), "--origin", "gullrock.example"]);
    assert_eq!(printed.exit, 0, "{printed:?}");
    let printed = printed.stdout.lines().filter(|line| !line.contains(" SOA "));
    let mut ours: Vec<String> = printed.map(String::from).collect();
    ours.sort();
    assert_eq!(ours, compiled(&file, "gullrock.example"));
    let refused = quay.run(&["record", "add", "@", "CNAME", "x.example.", "--zone", "gullrock.example"]).expect(4);
    assert!(refused.contains("alias"), "{refused}");
    assert!(quay.run(&["zone", "realign"]).expect(0).contains("All zones match"));
    hand_edits(quay);
    part_of_a_network(quay);
}

/// The reverse zone of part of a network (RFC 2317), whose name has a slash: made, served, taken away.
fn part_of_a_network(quay: &Quay) {
    let zone = "0/25.2.0.192.in-addr.arpa";
    quay.run(&["zone", "create", zone, "--account", "boatyard", "--yes"]).expect(0);
    quay.run(&["record", "add", "5.0/25.2.0.192.in-addr.arpa", "PTR", "crane.gullrock.example."]).expect(0);
    let name = DnsName::absolute("5.0/25.2.0.192.in-addr.arpa").unwrap();
    let pointer = Question::authoritative(quay.server(), &name, RecordType(12));
    let Outcome::Reply(reply) = block_on(ask(&pointer)).outcome else { panic!() };
    assert_eq!(reply.answer[0].data.to_string(), "crane.gullrock.example.");
    let shown = quay.json(&["zone", "show", zone], 0);
    assert_eq!(shown["servers"][0]["in_step"], true, "{shown}");
    quay.run(&["zone", "remove", zone, "--yes"]).expect(0);
    let kept: Vec<_> =
        fs::read_dir(quay.path("harbor/removed")).unwrap().map(|file| file.unwrap().file_name()).collect();
    assert!(kept.iter().any(|file| file.to_str().unwrap().starts_with("0_25.2.0.192.in-addr.arpa.")), "{kept:?}");
}

/// Files that somebody edits: loaded under a serial that the server takes, or named with what is wrong.
fn hand_edits(quay: &Quay) {
    let path = |zone: &str| quay.path(&format!("harbor/zones/{zone}.zone"));
    let edit = |zone: &str, from: &str, to: &str| {
        let text = fs::read_to_string(path(zone)).unwrap();
        assert!(text.contains(from), "{text}");
        fs::write(path(zone), text.replacen(from, to, 1)).unwrap();
    };
    let served = |zone: &str| quay.json(&["zone", "show", zone], 0)["servers"][0]["serial"].as_u64().unwrap();
    assert!(quay.run(&["zone", "load"]).expect(0).contains("Everything that the files have is served"));

    // A time to live alone counts, and the start of authority.
    for (from, to) in [("$TTL 3600", "$TTL 3000"), ("1800", "1700")] {
        edit("crumbandtide.example", from, to);
        let loaded = quay.json(&["zone", "load", "--all"], 0);
        let outcomes: Vec<&str> =
            loaded["zones"].as_array().unwrap().iter().map(|one| one["outcome"].as_str().unwrap()).collect();
        assert_eq!(outcomes, ["loads", "served"], "{from}: {loaded}");
    }
    // A new address, and the serial forgotten.
    let before = served("gullrock.example");
    edit("gullrock.example", "192.0.2.5", "192.0.2.55");
    let looked = quay.json(&["zone", "load"], 3);
    assert_eq!((&looked["zones"][1]["outcome"], &looked["carried_out"]), (&"loads".into(), &false.into()), "{looked}");
    assert_eq!(served("gullrock.example"), before, "looking changes nothing");
    let loaded = quay.json(&["zone", "load", "gullrock.example"], 0);
    assert_eq!(loaded["zones"][0]["serial"].as_u64().unwrap(), before + 1, "{loaded}");
    assert_eq!(served("gullrock.example"), before + 1);
    let crane =
        Question::authoritative(quay.server(), &DnsName::absolute("crane.gullrock.example").unwrap(), RecordType::A);
    let Outcome::Reply(reply) = block_on(ask(&crane)).outcome else { panic!() };
    assert_eq!(reply.answer[0].data.to_string(), "192.0.2.55");

    // A serial of somebody's own that goes back never goes out; one that goes on is taken as it is.
    let now = before + 1;
    edit("gullrock.example", &now.to_string(), "7");
    edit("gullrock.example", "192.0.2.55", "192.0.2.56");
    let loaded = quay.json(&["zone", "load", "gullrock.example"], 0);
    assert_eq!((&loaded["zones"][0]["raised_from"], served("gullrock.example")), (&7.into(), now + 1), "{loaded}");
    edit("gullrock.example", &(now + 1).to_string(), &(now + 40).to_string());
    let loaded = quay.json(&["zone", "load", "gullrock.example"], 0);
    assert_eq!((&loaded["zones"][0]["raised_from"], served("gullrock.example")), (&().into(), now + 40), "{loaded}");

    // One that the server would refuse holds up no other, and stays as it is served.
    edit("gullrock.example", "192.0.2.56", "192.0.2.256");
    edit("crumbandtide.example", "www", "shop");
    let both = quay.json(&["zone", "load", "--all"], 1);
    let outcomes: Vec<&str> =
        both["zones"].as_array().unwrap().iter().map(|one| one["outcome"].as_str().unwrap()).collect();
    assert_eq!(outcomes, ["loads", "refused"], "{both}");
    assert!(both["zones"][1]["reason"].as_str().unwrap().contains("192.0.2.256"), "{both}");
    let Outcome::Reply(reply) = block_on(ask(&crane)).outcome else { panic!() };
    assert_eq!(reply.answer[0].data.to_string(), "192.0.2.56", "visitors notice nothing");
    edit("gullrock.example", "192.0.2.256", "192.0.2.56");
}

#[test]
fn zones_live_on_bind() {
    life_of_a_zone(&Quay::bind("", "", ""));
}

#[test]
fn zones_live_on_knot() {
    life_of_a_zone(&Quay::new("knot", "kzonecheck", "", |world, folder| {
        let list = folder.join("harbor/servers/knot/zones.conf");
        start_knot(
            folder,
            (world.cast.nameservers()[0], world.cast.dns_port).into(),
            &format!("include: \"{}\"\n", list.display()),
        )
    }));
}

#[test]
fn zones_live_on_nsd() {
    life_of_a_zone(&Quay::new("nsd", "nsd-checkzone", "", |world, folder| {
        let list = folder.join("harbor/servers/nsd/zones.conf");
        start_nsd(
            folder,
            (world.cast.nameservers()[0], world.cast.dns_port).into(),
            &format!("include: \"{}\"\n", list.display()),
        )
    }));
}

#[test]
fn a_transfer_whose_middle_messages_are_not_signed_is_read_whole() {
    // NSD signs the first message, the last one, and few between them.
    let folder = open_folder();
    let world = World::start_around(folder.path()).unwrap();
    let server = address_of_its_own(&world.cast, 21);
    let mut text = "$TTL 60\n@ SOA ns1 host 7 14400 1800 2419200 300\n@ NS ns1\nns1 A 192.0.2.1\n".to_string();
    (0..40_000).for_each(|number| text.push_str(&format!("n{number} TXT \"{number} of many, so that it is long\"\n")));
    let file = folder.path().join("many.zone");
    fs::write(&file, text).unwrap();
    let zone = format!(
        "zone:\n  name: \"gullrock.example\"\n  zonefile: \"{}\"\n  provide-xfr: 127.0.0.1 quay-transfer\n",
        file.display()
    );
    let _nsd = start_nsd(folder.path(), server, &zone);
    let key = TransactionKey::read(&TRANSFER.write(folder.path())).unwrap();
    let name = DnsName::absolute("gullrock.example").unwrap();
    let records = block_on(transfer(server, &name, Some(&key))).unwrap();
    assert_eq!(records.len(), 40_003);
    let unsigned = block_on(transfer(server, &name, None)).unwrap_err();
    assert!(matches!(unsigned.problem, RequestProblem::Answered(_)), "{unsigned}");
}

#[test]
fn bind_learns_of_a_new_zone_alone_by_addzone() {
    let quay = Quay::bind("new-zones = \"addzone\"\n", "", "allow-new-zones yes;");
    quay.run(&["zone", "create", "gullrock.example", "--account", "boatyard"]).expect(0);
    let shown = quay.json(&["zone", "show", "gullrock.example"], 0);
    assert_eq!(shown["servers"][0]["in_step"], true, "{shown}");
    let parts = fs::read_dir(quay.path("harbor/servers/bind/parts")).unwrap();
    let texts = parts.map(|entry| fs::read_to_string(entry.unwrap().path()).unwrap());
    assert!(texts.into_iter().all(|text| !text.contains("gullrock")), "BIND remembers the zone itself");
    quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(0);
    let records = quay.json(&["record", "list", "gullrock.example"], 0);
    assert_eq!(records["records"].as_array().unwrap().len(), 6);
}

/// Two secondaries beside BIND: the settings that name them.
fn secondaries(knot: SocketAddr, nsd: SocketAddr) -> String {
    let one = |name: &str, at: SocketAddr| {
        format!(
            "[[secondaries]]\nname = \"{name}.saltmarsh.example.\"\naddress = \"{at}\"\n\
             key-file = \"{{keys}}/quay-transfer.key\"\n"
        )
    };
    let dns = "catalog = \"zones.saltmarsh.example\"\nupdate-key-file = \"{keys}/quay-update.key\"\n";
    format!("{dns}{}{}", one("ns2", knot), one("ns3", nsd))
}

#[test]
fn secondaries_are_published_to_and_one_takes_new_zones_from_the_catalog() {
    let quay = Quay::bind("", "", "");
    let [knot, nsd] = [20, 21].map(|last| address_of_its_own(&quay.world.cast, last));
    quay.settle(&secondaries(knot, nsd));
    let primary = quay.server().port();
    quay.run(&["zone", "create", "gullrock.example", "--account", "boatyard"]).expect(0);
    let interpreting = format!(
        "remote:\n  - id: primary\n    address: 127.0.0.1@{primary}\n    key: quay-transfer\n\
         acl:\n  - id: told\n    key: quay-transfer\n    action: notify\n\
         \x20 - id: looked-at\n    address: 127.0.0.1\n    action: transfer\n\
         template:\n  - id: member\n    storage: {home}\n    master: primary\n    acl: [told, looked-at]\n\
         zone:\n  - domain: zones.saltmarsh.example\n    master: primary\n    acl: [told, looked-at]\n\
         \x20   catalog-role: interpret\n    catalog-template: member\n",
        home = quay.path("knot").display(),
    );
    let _knot = start_knot(quay.folder.path(), knot, &interpreting);
    // The other one has each zone in its own configuration.
    let plain = format!(
        "zone:\n  name: \"gullrock.example\"\n  request-xfr: AXFR 127.0.0.1@{primary} quay-transfer\n\
         \x20 allow-notify: 127.0.0.1 quay-transfer\n  provide-xfr: 127.0.0.1 NOKEY\n"
    );
    let _nsd = start_nsd(quay.folder.path(), nsd, &plain);
    let published = quay.run(&["zone", "publish", "--wait", "30"]).expect(0);
    assert!(published.contains("All secondaries have all zones (1)"), "{published}");

    // A new zone: the Knot secondary picks it up by itself, through one update of the catalog.
    quay.run(&["zone", "create", "crumbandtide.example", "--account", "boatyard"]).expect(0);
    let zone = DnsName::absolute("crumbandtide.example").unwrap();
    let deadline = Instant::now() + Duration::from_secs(20);
    let taken = loop {
        match block_on(transfer(knot, &zone, None)) {
            Ok(records) => break records,
            Err(error) => assert!(Instant::now() < deadline, "{error}"),
        }
        std::thread::sleep(Duration::from_millis(200));
    };
    let file = quay.path("harbor/zones/crumbandtide.example.zone");
    assert_eq!(lines(&taken), compiled(&file, "crumbandtide.example"));

    // A change reaches both secondaries, which `zone list` shows. The plain one does not know the new zone, as is told.
    quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(0);
    let published = quay.json(&["zone", "publish", "--wait", "6"], 3);
    let zones = published["zones"].as_array().unwrap().iter();
    let behind: Vec<_> = zones.filter(|zone| zone["in_step"] == false).map(|zone| &zone["zone"]).collect();
    assert_eq!(behind, ["crumbandtide.example"], "{published}");
    let listed = quay.json(&["zone", "list"], 3);
    let mut zones = listed["zones"].as_array().unwrap().iter();
    let gullrock = zones.find(|zone| zone["zone"] == "gullrock.example").unwrap();
    let servers = gullrock["servers"].as_array().unwrap();
    assert!(servers.len() == 3 && servers.iter().all(|server| server["in_step"] == true), "{gullrock}");
    // Transfers are for the key alone.
    let stranger = block_on(transfer(quay.server(), &DnsName::absolute("gullrock.example").unwrap(), None));
    assert!(matches!(stranger.unwrap_err().problem, RequestProblem::Answered(word) if word == "REFUSED"));
    assert!(!quay.held("gullrock.example", "quay-transfer").is_empty());
}

#[test]
fn an_included_file_counts_from_the_servers_working_directory_and_stays_as_it_is() {
    let quay = Quay::bind("", "", "");
    quay.run(&["zone", "create", "gullrock.example", "--account", "boatyard"]).expect(0);
    fs::write(quay.path("bind/part.inc"), "crane A 192.0.2.5\n").unwrap();
    let file = quay.path("harbor/zones/gullrock.example.zone");
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, format!("{text}$INCLUDE part.inc ; the yard keeps it\n")).unwrap();
    let add = ["record", "add", "pier.gullrock.example", "A", "192.0.2.6"];
    assert!(quay.run(&add).expect(4).contains("names no `directory` under [dns]"));
    quay.settle("directory = \"{keys}/bind\"\n");
    quay.run(&add).expect(0);
    let edited = fs::read_to_string(&file).unwrap();
    assert!(edited.ends_with("$INCLUDE part.inc ; the yard keeps it\npier\t3600\tIN\tA\t192.0.2.6\n"), "{edited}");
    let again = quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(4);
    assert!(again.contains("has the record") || again.contains("already"), "{again}");
    let removed = quay.run(&["record", "remove", "crane.gullrock.example", "A"]).expect(4);
    assert!(removed.contains("included file; change it there"), "{removed}");
    let shown = quay.json(&["zone", "show", "gullrock.example"], 0);
    assert_eq!((&shown["servers"][0]["in_step"], &shown["records"]["A"]), (&true.into(), &4.into()), "{shown}");
}

#[test]
fn what_only_reads_files_works_while_the_server_is_down() {
    let mut quay = Quay::bind("", "", "");
    let main_file = quay.path("bind/named.conf").display().to_string();
    quay.settle(&format!("main-file = \"{main_file}\"\n"));
    quay.run(&["zone", "create", "gullrock.example", "--account", "boatyard", "--bare"]).expect(0);
    let file = quay.path("harbor/zones/gullrock.example.zone").display().to_string();
    quay.stop_server();
    for command in [
        "zone list",
        "zone list --files-only",
        "zone list --server",
        "zone show gullrock.example",
        "zone check gullrock.example",
        "record list gullrock.example",
        "zone realign",
        "account list",
        "site list",
        "redirect list",
        "logbook",
        "nameserver list",
    ] {
        let words: Vec<&str> = command.split(' ').collect();
        let begun = Instant::now();
        let run = quay.run(&words);
        // That the server does not answer for its zone is no fault of what was asked, and not as it should be.
        let expected = if command == "zone list" { 3 } else { 0 };
        assert_eq!(run.exit, expected, "{command}: {run:?}");
        assert!(begun.elapsed() < Duration::from_secs(8), "{command}: {:?}", begun.elapsed());
    }
    for command in [
        &["zone", "print", &file, "--origin", "gullrock.example"][..],
        &["record", "list", "--file", &file, "--origin", "gullrock.example"],
    ] {
        quay.run(command).expect(0);
    }
    let listed = quay.run(&["zone", "list"]).expect(3);
    assert!(listed.contains("could not be reached") || listed.contains("did not answer"), "{listed}");
    // A change says what is wrong, and is taken back; under a higher serial, in case the server has heard of it.
    let refused = quay.run(&["record", "add", "crane.gullrock.example", "A", "192.0.2.5"]).expect(5);
    assert!(refused.contains("rolled back"), "{refused}");
    assert!(!fs::read_to_string(&file).unwrap().contains("crane"));
}
