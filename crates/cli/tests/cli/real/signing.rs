//! Zones that real BIND and Knot DNS sign: switched on without an answer missed, edited, their DS handed to the parent and
//! taken back, switched off in the order that harms nobody.

use std::fs;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::name::DnsName;
use brightharbor_core::zone::RecordType;
use brightharbor_io::dns::ask;
use brightharbor_standins::World;
use serde_json::Value;

use super::nameservers::start_knot;
use super::quay::{Quay, block_on};
use super::servers::start_bind_with;
use super::taken_over::Visitor;

const ZONE: &str = "crumbandtide.example";

/// Keys at once, and a DS wanted at once: times that nobody would use outside a test.
const FAST_BIND: &str = "dnssec-policy \"coast\" { keys { csk lifetime unlimited algorithm ecdsap256sha256; }; dnskey-ttl 1; \
                         publish-safety 0; retire-safety 0; purge-keys 0; zone-propagation-delay 0; parent-ds-ttl 1; \
                         parent-propagation-delay 0; max-zone-ttl 2; signatures-refresh P5D; signatures-validity P14D; };\n";
/// For zones with the times to live that they have by default.
const ROOMY_BIND: &str =
    "dnssec-policy \"roomy\" { keys { csk lifetime unlimited algorithm ecdsap256sha256; }; max-zone-ttl 1d; };\n";
const FAST_KNOT: &str = "policy:\n  - id: coast\n    algorithm: ecdsap256sha256\n    single-type-signing: on\n    \
                         cds-cdnskey-publish: always\n    propagation-delay: 0\n    dnskey-ttl: 1\n";

fn on_bind() -> Quay {
    Quay::new("bind", "named-checkzone", "", |world, folder| {
        let list = folder.join("harbor/servers/bind/zones.conf");
        start_bind_with(&world.cast, folder, &format!("{FAST_BIND}{ROOMY_BIND}include \"{}\";\n", list.display()), "")
    })
}

fn on_knot() -> Quay {
    Quay::new("knot", "kzonecheck", "", |world: &World, folder| {
        let list = folder.join("harbor/servers/knot/zones.conf");
        let at: SocketAddr = (world.cast.nameservers()[0], world.cast.dns_port).into();
        start_knot(folder, at, &format!("{FAST_KNOT}include: \"{}\"\n", list.display()))
    })
}

fn answered(quay: &Quay, owner: &str, record_type: RecordType) -> Vec<String> {
    let question = Question::authoritative(quay.server(), &DnsName::absolute(owner).unwrap(), record_type);
    let Outcome::Reply(reply) = block_on(ask(&question)).outcome else { panic!("{owner} is not answered") };
    reply.answer.iter().map(|record| format!("{} {}", record.record_type(), record.data)).collect()
}

/// Asks until the document says so; keys come of age within seconds by the test's policy.
#[track_caller]
fn until(quay: &Quay, arguments: &[&str], what: &str, is_so: impl Fn(&Value) -> bool) -> Value {
    let deadline = Instant::now() + Duration::from_secs(30);
    loop {
        let run = crate::coast::run(
            crate::coast::brightharbor().args(arguments).arg("--json").env("BRIGHTHARBOR", quay.path("harbor")),
        );
        let document: Value = serde_json::from_str(&run.stdout).unwrap_or_default();
        if is_so(&document) {
            return document;
        }
        assert!(Instant::now() < deadline, "{what}: {run:?}");
        std::thread::sleep(Duration::from_millis(300));
    }
}

/// BIND makes a zone anew when its signing is switched: then it refuses answers for a moment, which resolvers ask another
/// nameserver for.
fn signed_and_unsigned(quay: &Quay, gap: usize) {
    // Short times to live: a DS is wanted once no cache can have the zone without signatures.
    let master = quay.path("short.zone");
    fs::write(
        &master,
        "$TTL 2\n@ SOA ns1.saltmarsh.example. host 7 60 60 600 2\n@ NS ns1.saltmarsh.example.\nwww A 192.0.2.80\n",
    )
    .unwrap();
    let created = ["zone", "create", ZONE, "--account", "boatyard", "--from", master.to_str().unwrap()];
    quay.run(&created).expect(0);
    quay.world.registrar.set_nameservers(ZONE, &["ns1.saltmarsh.example"]).unwrap();
    let file = fs::read_to_string(quay.path(&format!("harbor/zones/{ZONE}.zone"))).unwrap();

    let dry = quay.run(&["zone", "change", ZONE, "--sign", "coast", "--dry-run"]).expect(0);
    assert!(dry.contains("coast") && answered(quay, ZONE, RecordType::DNSKEY).is_empty(), "{dry}");
    // A policy that the server does not have: all is as it was.
    let unknown = quay.run(&["zone", "change", ZONE, "--sign", "nowhere"]).expect(5);
    assert!(unknown.contains("rolled back") || unknown.contains("nowhere"), "{unknown}");
    assert!(answered(quay, ZONE, RecordType::DNSKEY).is_empty());

    let visitor = Visitor::start(quay);
    quay.run(&["zone", "change", ZONE, "--sign", "coast"]).expect(0);
    visitor.missed_at_most(gap);
    assert!(answered(quay, ZONE, RecordType::DNSKEY).iter().any(|line| line.starts_with("DNSKEY 257 3 13")));
    assert_eq!(
        fs::read_to_string(quay.path(&format!("harbor/zones/{ZONE}.zone"))).unwrap(),
        file,
        "as people wrote it"
    );
    // In step under serials of the server's own, and edited as any other.
    let listed = quay.json(&["zone", "list"], 0);
    let row = &listed["zones"][0];
    assert_eq!((&row["servers"][0]["in_step"], &row["signed_by"]), (&true.into(), &"coast".into()), "{row}");
    quay.run(&["record", "add", &format!("oven.{ZONE}"), "A", "192.0.2.81"]).expect(0);
    let oven = until_answered(quay, &format!("oven.{ZONE}"), "A 192.0.2.81");
    assert!(oven.iter().any(|line| line.starts_with("A 192.0.2.81")), "{oven:?}");
    assert_eq!(quay.json(&["zone", "list"], 0)["zones"][0]["servers"][0]["in_step"], true);
    assert_eq!(quay.json(&["zone", "load"], 0)["zones"][0]["outcome"], "served");

    // The server asks for its DS; `tend` says so until the parent has it, and then tells the server.
    let shown = until(quay, &["zone", "show", ZONE], "a DS is wanted", |shown| {
        shown["signed"]["ds_missing"].as_array().is_some_and(|missing| missing.len() == 1)
    });
    let key = &shown["signed"]["keys"][0];
    assert_eq!(
        (&key["signs_keys"], &key["signs_zone"], &key["ds_at_parent"]),
        (&true.into(), &true.into(), &false.into())
    );
    let tended = quay.run(&["tend"]).expect(3);
    assert!(tended.contains("wants a DS") && tended.contains("delegation handover"), "{tended}");
    let ds = shown["signed"]["ds_missing"][0].as_str().unwrap();
    let at_registry = format!("{ZONE}. 3 IN DS {ds}");
    quay.world.registrar.add_registry_record(&at_registry).unwrap();
    let tended = quay.json(&["tend"], 0);
    let told = &tended["signing"][0]["ds_published"];
    assert_eq!(
        (told.as_array().unwrap().len(), &tended["signing"][0]["ds_missing"]),
        (1, &serde_json::json!([])),
        "{tended}"
    );
    assert_eq!(quay.json(&["tend"], 0)["signing"], serde_json::json!([]), "told once");
    let page = quay.run(&["zone", "show", ZONE]).expect(0);
    assert!(page.contains("its DS is at the parent"), "{page}");

    // Off: not while somebody who validates could expect signatures.
    let refused = quay.json(&["zone", "change", ZONE, "--no-sign"], 4);
    assert_eq!(refused["error"]["code"], "ds-at-parent", "{refused}");
    quay.world.registrar.remove_registry_record(&at_registry).unwrap();
    let refused = quay.json(&["zone", "change", ZONE, "--no-sign"], 4);
    assert_eq!(refused["error"]["code"], "ds-still-cached", "{refused}");
    std::thread::sleep(Duration::from_secs(4));
    let before = quay.json(&["zone", "show", ZONE], 0)["servers"][0]["serial"].as_u64().unwrap();
    let tended = quay.json(&["tend"], 3);
    assert_eq!(tended["signing"][0]["ds_withdrawn"].as_array().unwrap().len(), 1, "{tended}");
    let visitor = Visitor::start(quay);
    quay.run(&["zone", "change", ZONE, "--no-sign"]).expect(0);
    visitor.missed_at_most(gap);
    assert!(answered(quay, ZONE, RecordType::DNSKEY).is_empty());
    let after = quay.json(&["zone", "show", ZONE], 0);
    assert!(after["servers"][0]["serial"].as_u64().unwrap() > before, "{after}");
    assert_eq!((&after["servers"][0]["in_step"], &after["signed"]), (&true.into(), &Value::Null), "{after}");
    quay.run(&["record", "add", &format!("shelf.{ZONE}"), "A", "192.0.2.82"]).expect(0);
    // Signed once more, and removed while it is: nothing is left that a new zone of the name would stumble over.
    quay.run(&["zone", "change", ZONE, "--sign", "coast"]).expect(0);
    quay.run(&["record", "add", &format!("till.{ZONE}"), "A", "192.0.2.83"]).expect(0);
    quay.run(&["zone", "remove", ZONE, "--yes"]).expect(0);
    quay.run(&created).expect(0);
    assert!(answered(quay, ZONE, RecordType::DNSKEY).is_empty());
}

#[track_caller]
fn until_answered(quay: &Quay, owner: &str, line: &str) -> Vec<String> {
    let deadline = Instant::now() + Duration::from_secs(10);
    loop {
        let answer = answered(quay, owner, RecordType::A);
        if answer.iter().any(|present| present.starts_with(line)) || Instant::now() > deadline {
            return answer;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
}

#[test]
fn bind_signs_a_zone_and_signs_it_no_more() {
    signed_and_unsigned(&on_bind(), 20);
}

#[test]
fn knot_signs_a_zone_and_signs_it_no_more() {
    signed_and_unsigned(&on_knot(), 0);
}

#[test]
fn what_cannot_be_signed_or_is_not_known_to_be_safe_is_refused() {
    let quay = on_bind();
    quay.run(&["zone", "create", ZONE, "--account", "boatyard", "--bare"]).expect(0);
    let refused = |arguments: &[&str]| quay.json(&[&["zone", "change", ZONE], arguments].concat(), 4)["error"].clone();
    // Somebody has added an option to its definition.
    let parts = quay.path("harbor/servers/bind/parts");
    let has_it = |path: &std::path::PathBuf| fs::read_to_string(path).unwrap().contains(ZONE);
    let part = fs::read_dir(&parts).unwrap().map(|entry| entry.unwrap().path()).find(has_it).unwrap();
    let text = fs::read_to_string(&part).unwrap();
    fs::write(&part, text.replace("type primary;", "type primary; notify no;")).unwrap();
    assert_eq!(refused(&["--sign"])["code"], "own-definition");
    fs::write(&part, text).unwrap();
    // The parent is silent: whether it has a DS is not known.
    quay.run(&["zone", "change", ZONE, "--sign", "roomy"]).expect(0);
    let toml = quay.path("harbor/harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let root = format!("root-servers = [\"{}\"]", quay.world.cast.root());
    let nowhere = format!("root-servers = [\"{}\"]", super::nameservers::address_of_its_own(&quay.world.cast, 99).ip());
    fs::write(&toml, settings.replace(&root, &nowhere)).unwrap();
    let unknown = refused(&["--no-sign"]);
    assert_eq!(unknown["code"], "parent-unknown", "{unknown}");
    fs::write(&toml, settings.replace("server = \"bind\"", "server = \"nsd\"")).unwrap();
    assert_eq!(refused(&["--sign", "other"])["code"], "server-signs-nothing");
    fs::write(&toml, &settings).unwrap();
    quay.run(&["zone", "change", ZONE, "--no-sign"]).expect(0);
}
