//! A domain that others serve today: what its zone has goes into ours, and nobody is asked to move it before that.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

use brightharbor_standins::{Delegated, Scenario};
use serde_json::Value;

use crate::coast::{Coast, brightharbor, run};

/// Mail, texts, services, an alias, a wildcard, and a name that nobody would guess.
const ELSEWHERE: &str = "gullrock.example. MX 10 mail.gullrock.example.\n\
    mail.gullrock.example. A 198.51.100.25\n\
    gullrock.example. TXT \"v=spf1 include:_senders.gullrock.example -all\"\n\
    _senders.gullrock.example. TXT \"v=spf1 ip4:198.51.100.0/24 -all\"\n\
    _dmarc.gullrock.example. TXT \"v=DMARC1; p=reject\"\n\
    s1._domainkey.gullrock.example. TXT \"v=DKIM1; p=AQID\"\n\
    _imaps._tcp.gullrock.example. SRV 0 1 993 mail.gullrock.example.\n\
    gullrock.example. CAA 0 issue \"ca.saltmarsh.example\"\n\
    shop.gullrock.example. CNAME cart.gullrock.example.\n\
    cart.gullrock.example. A 198.51.100.26\n\
    slipway-7.gullrock.example. A 198.51.100.27\n";

struct Elsewhere {
    world: Delegated,
    folder: tempfile::TempDir,
}

impl Elsewhere {
    /// `more` are further lines of the scenario.
    fn start(more: &str) -> Self {
        let mut scenario = String::from(more);
        for line in ELSEWHERE.lines() {
            scenario.push_str(&format!("add ns1 {line}\nadd ns2 {line}\n"));
        }
        let world = Scenario::read(&scenario).unwrap().start(jiff::Timestamp::now()).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let elsewhere = Self { world, folder };
        fs::create_dir(elsewhere.path("homes")).unwrap();
        let settings = format!(
            "[host]\naddresses = [\"192.0.2.10\"]\nnameservers = [\"ns1.quay.example.\", \"ns2.quay.example.\"]\n\
             [sites]\nhome = \"{}/{{account}}\"\n\
             [internet]\nroot-servers = [\"{}\"]\nresolvers = [\"127.0.0.1:9\"]\ndns-port = {}\nhttp-port = 9\nhttps-port = 9\n",
            elsewhere.path("homes").display(),
            elsewhere.world.root.ip(),
            elsewhere.world.dns_port,
        );
        fs::write(elsewhere.path("settings.toml"), settings).unwrap();
        let file = elsewhere.path("settings.toml").display().to_string();
        elsewhere.json(&["init", "--settings", &file]);
        elsewhere.json(&["account", "add", "boatyard", "--email", "yard@saltmarsh.example"]);
        elsewhere
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn json(&self, words: &[&str]) -> Value {
        let done = run(brightharbor().env("BRIGHTHARBOR", self.path("harbor")).args(words).arg("--json"));
        serde_json::from_str(&done.stdout).unwrap_or_else(|error| panic!("{error}: {done:?}"))
    }

    fn attach(&self, more: &[&str]) -> Value {
        self.json(&[&["attach", "gullrock.example", "--account", "boatyard"], more].concat())
    }

    fn zone(&self) -> String {
        fs::read_to_string(self.path("harbor/zones/gullrock.example.zone")).unwrap()
    }
}

fn remark<'a>(document: &'a Value, code: &str) -> Option<&'a Value> {
    document["change"]["remarks"].as_array()?.iter().find(|remark| remark["code"] == code)
}

#[test]
fn mail_and_names_of_a_domain_go_along_when_it_is_attached() {
    let elsewhere = Elsewhere::start("");
    let dry = elsewhere.attach(&["--dry-run"]);
    assert!(dry.to_string().contains("_dmarc.gullrock.example. 3600 IN TXT"), "the dry run shows the lines: {dry}");
    let attached = elsewhere.attach(&[]);
    let carried = remark(&attached, "carried-over").unwrap_or_else(|| panic!("{attached}"));
    assert_eq!((&carried["whole"], &carried["signed"]), (&false.into(), &false.into()));
    let kind = brightharbor_standins::Family::of_this_process().record_type();
    assert_eq!(carried["replaced"], serde_json::json!([format!("@ {kind}"), format!("www {kind}")]));
    assert_eq!(carried["left"], serde_json::json!([]));
    let zone = elsewhere.zone();
    for line in ELSEWHERE.lines().filter(|line| !line.starts_with("slipway")) {
        let (owner, rest) = line.split_once(' ').unwrap();
        assert!(zone.contains(&format!("{owner} 3600 IN {rest}\n")), "{line} is not in\n{zone}");
    }
    assert!(zone.contains("@\tIN\tA\t192.0.2.10\n") && !zone.contains("slipway"), "{zone}");
    // Compared later, nothing is lost but what nobody can see from outside.
    let compared = elsewhere.json(&["zone", "compare", "gullrock.example"]);
    assert_eq!((&compared["losses"], &compared["by"], &compared["exit"]), (&0.into(), &"questions".into(), &0.into()));
    let handed = elsewhere.json(&["delegation", "handover", "gullrock.example"]);
    assert_eq!(handed["nameservers"], serde_json::json!(["ns1.quay.example", "ns2.quay.example"]), "{handed}");
    assert_eq!(handed["noted"], true);
    // From then on the old delegation is no fault until the registry should have published the new one.
    let checked = elsewhere.json(&["delegation", "check", "gullrock.example"]);
    assert_eq!((&checked["exit"], &checked["domains"][0]["verdict"]), (&3.into(), &"waiting".into()), "{checked}");
    let survey = elsewhere.json(&["survey", "gullrock.example"]);
    let link = &survey["surveys"][0]["links"][1];
    assert_eq!((&link["state"], &link["code"]), (&"waiting".into(), &"nameservers-not-as-expected".into()), "{link}");
    assert!(link["because"].as_str().unwrap().contains("; asked for on 20"), "{link}");
}

#[test]
fn a_zone_that_is_given_away_comes_whole() {
    let elsewhere = Elsewhere::start("server ns1 transfer\n");
    let attached = elsewhere.attach(&[]);
    assert_eq!(remark(&attached, "carried-over").unwrap()["whole"], true, "{attached}");
    assert!(elsewhere.zone().contains("slipway-7.gullrock.example. 3600 IN A 198.51.100.27\n"));
}

#[test]
fn what_was_said_about_mail_stands_against_what_was_there() {
    let elsewhere = Elsewhere::start("");
    let attached = elsewhere.attach(&["--mail", "none"]);
    let left = remark(&attached, "carried-over").unwrap()["left"].to_string();
    assert!(left.contains("@ MX") && left.contains("@ TXT"), "{left}");
    let zone = elsewhere.zone();
    assert!(zone.contains("MX\t0 .\n") && !zone.contains("MX 10") && zone.matches("v=spf1").count() == 2, "{zone}");
}

#[test]
fn nobody_is_asked_to_move_a_domain_that_would_lose_its_mail() {
    let elsewhere = Elsewhere::start("signed\n");
    let attached = elsewhere.attach(&["--bare"]);
    assert!(remark(&attached, "carried-over").is_none() && !elsewhere.zone().contains("MX"), "{attached}");
    let compared = elsewhere.json(&["zone", "compare", "gullrock.example"]);
    let of = |kind: &str| {
        let all = compared["differences"].as_array().unwrap().iter().filter(|one| one["differs"] == kind);
        all.map(|one| format!("{} {}", one["name"].as_str().unwrap(), one["type"].as_str().unwrap()))
            .collect::<Vec<_>>()
    };
    assert_eq!(compared["exit"], 1);
    assert!(of("missing-here").contains(&"gullrock.example. MX".to_string()), "{compared}");
    let kind = brightharbor_standins::Family::of_this_process().record_type();
    assert_eq!(of("served-here"), [format!("gullrock.example. {kind}"), format!("www.gullrock.example. {kind}")]);
    // A survey waits for the registrar, and says what comes of it.
    let surveyed = elsewhere.json(&["survey", "gullrock.example"]);
    assert!(surveyed["would_lose"]["gullrock.example"].to_string().contains("@ MX"), "{surveyed}");
    let refused = elsewhere.json(&["delegation", "handover", "gullrock.example"]);
    assert_eq!((&refused["exit"], &refused["error"]["code"]), (&4.into(), &"would-lose-records".into()), "{refused}");
    let sets = refused["error"]["sets"].to_string();
    assert!(sets.contains("@ MX") && sets.contains("_dmarc TXT"), "{refused}");
    let meant = elsewhere.json(&["delegation", "handover", "gullrock.example", "--yes"]);
    assert!(meant["remove_ds"].as_array().is_some_and(|ds| !ds.is_empty()), "{meant}");
    // Where the delegation stays as it is, nothing is lost by it.
    let stays = ["--expect", "ns1.saltmarsh.example", "--expect", "ns2.oldquay.example"];
    let same = elsewhere.json(&[&["delegation", "handover", "gullrock.example"], &stays[..]].concat());
    assert_eq!(same["command"], "delegation handover", "{same}");
    // With another server given, that is what counts.
    let other = elsewhere.world.address("provider").unwrap().to_string();
    let silent = elsewhere.json(&["zone", "compare", "gullrock.example", "--with", &other]);
    assert_eq!(silent["error"]["code"], "nobody-answers", "{silent}");
}

#[test]
fn a_signed_domain_is_told_to_be_one() {
    let elsewhere = Elsewhere::start("signed\n");
    assert_eq!(remark(&elsewhere.attach(&[]), "carried-over").unwrap()["signed"], true);
    assert!(!elsewhere.zone().contains("DNSKEY") && !elsewhere.zone().contains("RRSIG"));
}

#[test]
fn the_file_of_a_former_provider_is_taken_as_well() {
    let elsewhere = Elsewhere::start("");
    let write = |name: &str, text: &str| {
        fs::write(elsewhere.path(name), text).unwrap();
        elsewhere.path(name).display().to_string()
    };
    let head = "$TTL 900\n@ SOA ns.old.example. host.old.example. 7 4h 30m 4w 5m\n@ NS ns.old.example.\n";
    let file = write("old.zone", &format!("{head}@ A 198.51.100.1\n@ MX 5 post\npost A 198.51.100.2\n"));
    let attached = elsewhere.attach(&["--from", &file]);
    let carried = remark(&attached, "carried-over").unwrap();
    assert_eq!((&carried["whole"], &carried["sets"]), (&true.into(), &serde_json::json!(["@ MX", "post A"])));
    assert!(elsewhere.zone().contains("gullrock.example. 900 IN MX 5 post.gullrock.example.\n"));
    // Where no zone is made from it, it is not left out without a word.
    let below = ["attach", "quay.gullrock.example", "--account", "boatyard", "--from", &file];
    assert_eq!(elsewhere.json(&below)["error"]["code"], "no-new-zone");
    // The same where no site is served: merged on request, else byte for byte.
    let create = ["zone", "create", "lanternchoir.example", "--account", "boatyard", "--from", &file];
    let merged = elsewhere.json(&[&create[..], &["--merge"]].concat());
    assert_eq!(remark(&merged, "carried-over").unwrap()["sets"], serde_json::json!(["@ MX", "post A"]), "{merged}");
    let zone = fs::read_to_string(elsewhere.path("harbor/zones/lanternchoir.example.zone")).unwrap();
    assert!(zone.contains("MX 5 post.lanternchoir.example.") && zone.contains("NS\tns1.quay.example."), "{zone}");
    assert!(!zone.contains("198.51.100.1\n") && !zone.contains("ns.old.example"), "{zone}");
    let broken = write("broken.zone", "@ A no-address\n");
    let other = elsewhere.json(&["attach", "oldquay.example", "--account", "boatyard", "--from", &broken]);
    assert_eq!(other["error"]["code"], "zone-unreadable", "{other}");
    assert!(other["error"]["message"].as_str().unwrap().contains("broken.zone:1"), "{other}");
    assert!(!Path::new(&elsewhere.path("harbor/zones/oldquay.example.zone")).exists());
    let many = ["attach", "a.example", "b.example", "--account", "boatyard", "--from", &file];
    assert_eq!(elsewhere.json(&many)["error"]["code"], "wrong-use");
}

#[test]
fn a_domain_of_nobody_is_made_as_before_and_at_once() {
    let elsewhere = Elsewhere::start("");
    let started = std::time::Instant::now();
    let made = elsewhere.json(&["zone", "create", "notyet.example", "--account", "boatyard"]);
    assert!(remark(&made, "carried-over").is_none() && started.elapsed().as_secs() < 3, "{made}");
    let compared = elsewhere.json(&["zone", "compare", "notyet.example"]);
    assert_eq!((&compared["state"], &compared["exit"]), (&"not-delegated".into(), &0.into()));
}

#[test]
fn nobody_is_asked_to_move_a_domain_to_servers_that_do_not_have_it() {
    let elsewhere = Elsewhere::start("server provider lame\n");
    elsewhere.attach(&[]);
    let address = elsewhere.world.address("provider").unwrap().to_string();
    let toml = elsewhere.path("harbor/harbor.toml");
    let text = fs::read_to_string(&toml).unwrap();
    let named = format!("[host.nameserver-addresses]\n\"ns1.quay.example.\" = [\"{address}\"]\n[internet]\n");
    fs::write(&toml, text.replace("[internet]\n", &named)).unwrap();
    let refused = elsewhere.json(&["delegation", "handover", "gullrock.example"]);
    assert_eq!((&refused["exit"], &refused["error"]["code"]), (&4.into(), &"nameserver-not-ready".into()), "{refused}");
    let told = refused["error"]["message"].as_str().unwrap();
    assert!(told.contains(&format!("ns1.quay.example ({address})")), "{told}");
    assert_eq!(
        elsewhere.json(&["delegation", "handover", "gullrock.example", "--yes"])["command"],
        "delegation handover"
    );
}

#[test]
fn a_move_is_prepared_where_the_world_gets_the_zone_from() {
    let coast = Coast::new();
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]).expect(3);
    let zone = || fs::read_to_string(coast.harbor().join("zones/crumbandtide.example.zone")).unwrap();
    let before = zone();
    // Somebody else keeps it: what is to be lowered there is named, and nothing is changed here.
    fn prepare<'a>(more: &[&'a str]) -> Vec<&'a str> {
        [&["zone", "prepare-move", "crumbandtide.example"], more].concat()
    }
    let elsewhere = coast.json(&prepare(&["--ttl", "1"]), 3);
    let lowered = elsewhere["to_lower"].as_array().unwrap();
    assert_eq!((&elsewhere["kept"], zone()), (&"elsewhere".into(), before));
    assert!(lowered.iter().any(|set| set["owner"] == "crumbandtide.example" && set["type"] == "MX"), "{elsewhere}");
    let text = coast.run(&prepare(&["--ttl", "1"])).expect(3);
    assert!(text.contains("the world gets it from somebody else; nothing was changed"), "{text}");
    assert!(coast.run(&prepare(&["--ttl", "1d"])).expect(0).contains("nothing there is cached for longer than 1 d"));

    // Ours: lowered, remembered, and put back.
    coast.delegate_here("crumbandtide.example");
    let before = zone();
    let records = || {
        let printed = coast.run(&["zone", "print", "crumbandtide.example"]);
        let words = printed.stdout.lines().map(|line| line.split_whitespace().map(String::from).collect::<Vec<_>>());
        words.filter(|words| words.get(3).is_some_and(|kind| kind != "SOA")).collect::<BTreeSet<_>>()
    };
    let records_before = records();
    assert!(coast.run(&prepare(&["--ttl", "2m", "--dry-run"])).expect(0).contains("Would lower"));
    assert_eq!(zone(), before);
    let done = coast.json(&prepare(&["--ttl", "2m"]), 0);
    let remarks = done["change"]["remarks"].as_array().unwrap_or_else(|| panic!("{done}")).clone();
    let remark = |code: &str| remarks.iter().find(|remark| remark["code"] == code).unwrap_or_else(|| panic!("{done}"));
    assert_eq!(remark("ready-to-move")["ttl"], 120);
    assert!(remark("ttls-lowered")["sets"].as_u64().unwrap() > 2, "{done}");
    assert!(records().iter().all(|words| words[1] == "120") && records().len() == records_before.len(), "{}", zone());
    let shown = coast.run(&["zone", "show", "crumbandtide.example"]).expect(0);
    assert!(shown.contains("lowered to 2 min for a move"), "{shown}");
    // A copy of the inventory keeps it; what is moved in between is put back too.
    coast.run(&prepare(&["--ttl", "2m"])).expect(0);
    assert!(coast.run(&prepare(&["--back"])).expect(0).contains("Put back the time to live of"));
    assert_eq!(records(), records_before);
    assert!(coast.run(&prepare(&["--back"])).expect(0).contains("Nothing to change"));
    assert!(coast.run(&prepare(&["--ttl", "0"])).expect(2).contains("no time to live"));
}
