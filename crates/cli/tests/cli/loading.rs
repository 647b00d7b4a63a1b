//! `load`: what a file lists comes by one change, a second time changes nothing, and a harbor writes such a file itself.

use std::fs;
use std::io::Write;
use std::process::Stdio;

use serde_json::{Value, json};

use crate::coast::Coast;

const LISTING: &str = r#"
[plans.small]
addon-domains = 2

[accounts.choir]
email = "choir@saltmarsh.example"
plan = "small"
reseller = "bakery"
nameserver-set = "tide"

[nameserver-sets.tide]
nameservers = ["ns1.crumbandtide.example=192.0.2.53", "ns2.harbour.example"]
account = "choir"
capacity = 20

[accounts.bakery]
email = "oven@saltmarsh.example"

[sites."lanternchoir.example"]
account = "choir"
names = ["quay.example"]
index = ["home.html"]
tls = "1.3"
hsts = 3600

[sites."crumbandtide.example"]
account = "bakery"
www = "to-bare"

[[redirects]]
from = "crumbandtide.example/old"
to = "https://quay.example/new"
status = 301

[[records]]
zone = "crumbandtide.example"
owner = "tides"
type = "TXT"
data = "high water"
"#;

fn tables(document: &Value) -> Vec<(String, [u64; 4])> {
    let count = |table: &Value, member: &str| table[member].as_u64().unwrap();
    let of = |table: &Value| ["added", "changed", "same", "removed"].map(|member| count(table, member));
    document["tables"].as_object().unwrap().iter().map(|(name, table)| (name.clone(), of(table))).collect()
}

fn entries(coast: &Coast) -> usize {
    coast.json(&["logbook", "--last", "100"], 0)["entries"].as_array().unwrap().len()
}

#[test]
fn a_listing_comes_by_one_change_and_changes_nothing_a_second_time() {
    let coast = Coast::with_bakery();
    let path = coast.path("listing.toml");
    fs::write(&path, LISTING).unwrap();
    let file = path.to_str().unwrap();
    let before = entries(&coast);
    let dry = coast.json(&["load", file, "--dry-run"], 0);
    let expected = [
        ("accounts", [1, 1, 0, 0]),
        ("nameserver_sets", [1, 0, 0, 0]),
        ("plans", [1, 0, 0, 0]),
        ("records", [1, 0, 0, 0]),
        ("redirects", [1, 0, 0, 0]),
        ("sites", [1, 1, 0, 0]),
    ];
    assert_eq!(tables(&dry), expected.map(|(name, counts)| (name.to_string(), counts)), "{dry}");
    assert_eq!(entries(&coast), before);
    let loaded = coast.json(&["load", file], 3);
    assert_eq!((tables(&loaded), loaded["hsts_later"].clone()), (tables(&dry), json!(["lanternchoir.example"])));
    assert_eq!(entries(&coast), before + 1, "one change");
    let shown = coast.json(&["site", "show", "lanternchoir.example"], 0);
    assert_eq!(shown["site"]["hostnames"].as_array().unwrap().len(), 4, "{shown}");
    let choir = coast.json(&["account", "show", "choir"], 0)["account"].clone();
    assert_eq!((&choir["plan"], &choir["nameserver_set"]), (&json!("small"), &json!("tide")), "{choir}");
    let set = coast.json(&["nameserver", "show", "tide"], 0)["set"].clone();
    assert_eq!((&set["account"], &set["capacity"]), (&json!("choir"), &json!(20)), "{set}");
    let records = coast.json(&["record", "list", "crumbandtide.example", "--with", "ns1.crumb"], 0)["records"].clone();
    assert_eq!(records[0]["data"], "192.0.2.53", "the address of a name in a zone here: {records}");
    let tried = coast.json(&["redirect", "try", "https://crumbandtide.example/old"], 0);
    assert_eq!(tried["model"][0]["status"], 301, "{tried}");
    let records = coast.json(&["record", "list", "crumbandtide.example"], 0)["records"].clone();
    assert!(records.as_array().unwrap().iter().any(|record| record["data"] == "\"high water\""), "{records}");

    let again = coast.json(&["load", file], 0);
    assert!(tables(&again).iter().all(|(_, [added, changed, _, gone])| added + changed + gone == 0), "{again}");
    assert_eq!(again["change"]["remarks"][0]["code"], "unchanged");
    let words = coast.run(&["load", file]).expect(0);
    assert!(
        words.contains("All is as listed: 1 plan, 2 accounts, 1 nameserver set, 2 sites, 1 redirect, 1 record."),
        "{words}"
    );
    let removed = LISTING.replace("oven@", "baker@").replace("index = [\"home.html\"]", "");
    fs::write(&path, &removed).unwrap();
    let words = coast.run(&["load", file, "--dry-run"]).expect(0);
    assert!(
        words.contains("Would change 1 account. as listed already: 1 plan, 1 account, 1 nameserver set, 2 sites,"),
        "{words}"
    );
    fs::write(&path, LISTING).unwrap();
    assert_eq!(entries(&coast), before + 1);

    // One entry, and one to take back.
    coast.json(&["undo"], 0);
    assert_eq!(coast.json(&["account", "list"], 0)["accounts"].as_array().unwrap().len(), 1);
    assert_eq!(coast.json(&["account", "show", "bakery"], 0)["account"]["email"], "baker@saltmarsh.example");
}

#[test]
fn a_harbor_writes_what_it_has_and_another_one_takes_it() {
    let coast = Coast::with_bakery();
    let path = coast.path("listing.toml");
    fs::write(&path, LISTING).unwrap();
    coast.json(&["load", path.to_str().unwrap()], 3);
    let written = coast.path("written.toml");
    let told = coast.json(&["load", "--write", written.to_str().unwrap()], 0);
    assert_eq!(
        told["tables"],
        json!({ "plans": 1, "accounts": 2, "nameserver_sets": 1, "sites": 2, "redirects": 1, "records": 2 }),
        "{told}"
    );
    let refused = coast.json(&["load", "--write", written.to_str().unwrap()], 4);
    assert_eq!(refused["error"]["code"], "in-the-way", "{refused}");
    let same = coast.json(&["load", written.to_str().unwrap()], 0);
    assert!(tables(&same).iter().all(|(_, [added, changed, _, gone])| added + changed + gone == 0), "{same}");

    let other = Coast::empty();
    let settings = other.path("settings.toml");
    fs::write(&settings, other.world.settings()).unwrap();
    other.run(&["init", "--settings", settings.to_str().unwrap()]).expect(0);
    // The homes are those of that machine.
    let homes = |coast: &Coast| coast.path("homes").display().to_string();
    let text = fs::read_to_string(&written).unwrap().replace(&homes(&coast), &homes(&other));
    let copied = other.path("listing.toml");
    fs::write(&copied, text).unwrap();
    other.json(&["load", copied.to_str().unwrap()], 0);
    let sites = |coast: &Coast| {
        let all = coast.json(&["site", "list"], 0)["sites"].clone();
        let names = all.as_array().unwrap().iter().map(|site| site["hostnames"].clone()).collect::<Vec<_>>();
        json!(names)
    };
    assert_eq!(sites(&other), sites(&coast));
}

#[test]
fn what_the_whole_truth_does_not_name_goes() {
    let coast = Coast::with_bakery();
    coast.done(&["attach", "quay.example", "--account", "bakery", "--zone", "elsewhere"]);
    coast.json(&["redirect", "add", "crumbandtide.example/old", "/new"], 0);
    let path = coast.path("listing.toml");
    let listing = "[sites.\"crumbandtide.example\"]\naccount = \"bakery\"\n";
    fs::write(&path, listing).unwrap();
    let file = path.to_str().unwrap();
    let same = coast.json(&["load", file], 0);
    assert_eq!(same["change"]["remarks"][0]["code"], "unchanged", "{same}");
    fs::write(&path, format!("whole = [\"sites\", \"redirects\"]\n{listing}")).unwrap();
    let loaded = coast.json(&["load", file, "--yes"], 0);
    assert_eq!(
        (&loaded["tables"]["sites"]["removed"], &loaded["tables"]["redirects"]["removed"]),
        (&json!(1), &json!(1))
    );
    assert_eq!(coast.json(&["site", "list"], 0)["sites"].as_array().unwrap().len(), 1);
    assert_eq!(coast.json(&["redirect", "list"], 0)["redirects"], json!([]));
}

#[test]
fn a_table_of_hostnames_and_standard_input_do_as_well() {
    let coast = Coast::with_bakery();
    let path = coast.path("names.csv");
    let rows = "hostname,account,same-as,zone\nquay.example,bakery,,elsewhere\npier.example,,quay.example,\n";
    fs::write(&path, rows).unwrap();
    let loaded = coast.json(&["load", path.to_str().unwrap()], 0);
    assert_eq!(loaded["tables"]["sites"]["added"], 1, "{loaded}");
    assert_eq!(coast.json(&["site", "show", "pier.example"], 0)["site"]["hostnames"][0], "quay.example");

    let mut command = coast.command(&["load", "-", "--json"]);
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"[plans.large]\n").unwrap();
    let output = child.wait_with_output().unwrap();
    let document: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!((&document["exit"], &document["tables"]["plans"]["added"]), (&json!(0), &json!(1)), "{document}");
}

#[test]
fn what_is_wrong_is_told_with_its_place_and_nothing_is_changed() {
    let coast = Coast::with_bakery();
    let before = entries(&coast);
    let load = |name: &str, text: &str, exit: i32| {
        let path = coast.path(name);
        fs::write(&path, text).unwrap();
        coast.json(&["load", path.to_str().unwrap()], exit)["error"].clone()
    };
    let message = |error: &Value| error["message"].as_str().unwrap().to_string();
    let misspelt = load("a.toml", "\n[plans.small]\nredirect = 3\n", 2);
    assert!(message(&misspelt).contains("a.toml:3: unknown field `redirect`"), "{misspelt}");
    let table = load("a.csv", "hostname,account\nquay.example,bakery\npier.example\n", 2);
    assert!(message(&table).contains("a.csv:3: "), "{table}");
    let entry = load("b.toml", "[sites.\"quay.example\"]\naccount = \"bakery\"\nserve = [\"gopher://x\"]\n", 2);
    assert!(message(&entry).starts_with("sites.\"quay.example\": "), "{entry}");
    let zone = "[[records]]\nzone = \"pier.example\"\nowner = \"@\"\ntype = \"TXT\"\ndata = \"x\"\n";
    assert_eq!(load("c.toml", zone, 4)["code"], "no-zone");
    assert!(
        message(&load("d.toml", &zone.replace("TXT", "TXXT").replace("pier", "crumbandtide"), 2)).contains("`TXXT`")
    );
    assert_eq!(load("e.toml", "[sites.\"quay.example\"]\naccount = \"yard\"\n", 4)["code"], "unknown-account");
    // All of one account at once are more than its plan allows.
    let many: String =
        (0..3).map(|at| format!("[sites.\"quay{at}.example\"]\naccount = \"choir\"\nzone = \"elsewhere\"\n")).collect();
    let limited = format!(
        "[plans.small]\naddon-domains = 2\n[accounts.choir]\nemail = \"c@saltmarsh.example\"\nplan = \"small\"\n{many}"
    );
    assert_eq!(load("f.toml", &limited, 4)["code"], "limit");
    assert_eq!(entries(&coast), before);
    assert_eq!(coast.json(&["account", "list"], 0)["accounts"].as_array().unwrap().len(), 1);
    assert_eq!(coast.run(&["load"]).exit, 2);
}
