//! Taking back what a command did: all of it is as it was before, or nothing is changed and the reason is told.

use std::fs;
use std::path::PathBuf;

use brightharbor_core::harbor::{Layout, WebServer};
use brightharbor_core::name::Host;
use serde_json::{Value, json};

use crate::coast::Coast;

fn site_file(coast: &Coast) -> PathBuf {
    Layout::new(coast.harbor()).site_file(WebServer::StandIn, &Host::parse("crumbandtide.example").unwrap())
}

/// What the harbor serves and knows, without what grows with every entry.
fn state(coast: &Coast) -> (Value, Value, Value, String) {
    let file = fs::read_to_string(site_file(coast)).unwrap_or_default();
    let of = |words: &[&str], member: &str| coast.json(words, 0)[member].clone();
    // The serial only grows.
    let mut records = of(&["record", "list", "crumbandtide.example"], "records");
    records.as_array_mut().into_iter().for_each(|all| all.retain(|record| record["type"] != "SOA"));
    (of(&["site", "list"], "sites"), records, of(&["account", "list"], "accounts"), file)
}

fn last(coast: &Coast) -> i64 {
    coast.json(&["logbook", "--last", "1"], 0)["entries"][0]["entry"].as_i64().unwrap()
}

#[test]
fn what_a_command_did_is_taken_back_and_done_again() {
    let coast = Coast::with_bakery();
    let name = "crumbandtide.example";
    for command in [
        &["record", "add", name, "TXT", "high water"][..],
        &["record", "replace", name, "A", "192.0.2.77"],
        &["site", "change", name, "--www", "to-bare", "--index", "tide.html"],
        &["redirect", "add", "crumbandtide.example/old", "/new", "--permanent"],
        &["account", "change", "bakery", "--email", "oven@saltmarsh.example"],
        &["attach", "quay.example", "--account", "bakery", "--zone", "elsewhere"],
        &["account", "add", "choir", "--email", "choir@saltmarsh.example"],
    ] {
        let before = state(&coast);
        coast.done(&[command, &["--yes"]].concat());
        let (after, entry) = (state(&coast), last(&coast));
        assert_ne!(before, after, "{command:?}");
        let dry = coast.json(&["undo", "--dry-run"], 0);
        assert_eq!(dry["change"]["carried_out"], false);
        assert_eq!(state(&coast), after, "{command:?}");
        let undone = coast.json(&["undo", &entry.to_string()], 0);
        assert_eq!(undone["change"]["remarks"][0]["code"], "taken-back", "{undone}");
        assert_eq!(state(&coast), before, "{command:?}");
        // The undo is an entry like any other.
        coast.json(&["undo"], 0);
        assert_eq!(state(&coast), after, "{command:?}");
    }
    assert_eq!(coast.done(&["tend"])["out_of_step"], json!([]));
}

#[test]
fn a_site_and_a_zone_come_back_as_they_were_served() {
    let coast = Coast::with_bakery();
    let name = "crumbandtide.example";
    coast.json(&["certificate", "issue", name], 0);
    let before = state(&coast);
    let serial = |coast: &Coast| coast.json(&["zone", "show", name], 0)["serial"].as_u64().unwrap();
    let old = serial(&coast);
    coast.json(&["detach", name, "--zone", "remove", "--yes"], 0);
    assert_eq!(coast.json(&["site", "list"], 0)["sites"], json!([]));
    coast.json(&["undo"], 0);
    let after = state(&coast);
    assert_eq!((&before.0, &before.1, &before.3), (&after.0, &after.1, &after.3));
    assert!(serial(&coast) >= old, "no server takes a serial back");
    // Visitors get the page by https, with the certificate that they had.
    let survey = coast.json(&["survey", name], 0);
    assert_eq!(survey["exit"], 0, "{survey}");
    assert_eq!(coast.json(&["certificate", "list"], 0)["certificates"][0]["site"], name);
}

#[test]
fn what_has_changed_since_is_named_and_stays() {
    let coast = Coast::with_bakery();
    let name = "crumbandtide.example";
    let entries = coast.json(&["logbook"], 0)["entries"].clone();
    let is_attach = |entry: &&Value| entry["what"].as_str().is_some_and(|what| what.starts_with("attach "));
    let attached = entries.as_array().unwrap().iter().find(is_attach).unwrap()["entry"].as_i64().unwrap();
    coast.json(&["site", "change", name, "--index", "tide.html"], 0);
    let changed = last(&coast);
    let refused = coast.json(&["undo", &attached.to_string()], 4);
    assert_eq!(refused["error"]["code"], "changed-since", "{refused}");
    assert_eq!(refused["error"]["by"], changed, "{refused}");

    // By hand, too.
    let file = site_file(&coast);
    let text = fs::read_to_string(&file).unwrap();
    fs::write(&file, format!("{text}# by hand\n")).unwrap();
    let refused = coast.json(&["undo", &changed.to_string()], 4);
    assert_eq!((&refused["error"]["code"], &refused["error"]["by"]), (&json!("changed-since"), &json!(null)));
    assert!(fs::read_to_string(&file).unwrap().ends_with("# by hand\n"));
    fs::write(&file, text).unwrap();
    let shown = coast.run(&["logbook", "show", &changed.to_string()]).expect(0);
    assert!(shown.contains(&format!("It can be taken back: brightharbor undo {changed}")), "{shown}");
    assert!(shown.contains("inventory: change site crumbandtide.example ---"), "{shown}");
    assert!(shown.contains("+ \"fingerprint\": \""), "{shown}");

    // What a CA gave stays, and what was never there is no entry.
    coast.json(&["certificate", "issue", name, "--key", "p384"], 0);
    let refused = coast.json(&["undo", &last(&coast).to_string()], 4);
    assert_eq!(refused["error"]["code"], "for-good", "{refused}");
    assert_eq!(coast.json(&["undo", "999"], 4)["error"]["code"], "no-entry");
    let failed = coast.path("harbor/harbor.toml");
    let toml = fs::read_to_string(&failed).unwrap();
    fs::write(&failed, toml.replacen("control = ", "control = \"127.0.0.9:9\" # ", 1)).unwrap();
    coast.json(&["site", "change", name, "--index", "ebb.html"], 5);
    fs::write(&failed, toml).unwrap();
    let refused = coast.json(&["undo", &last(&coast).to_string()], 4);
    assert_eq!(refused["error"]["code"], "not-done", "{refused}");

    // Its copies are kept for a while only.
    coast.json(&["record", "add", name, "TXT", "high water"], 0);
    fs::remove_dir_all(coast.harbor().join("replaced")).unwrap();
    let refused = coast.json(&["undo"], 4);
    assert_eq!(refused["error"]["code"], "no-copies", "{refused}");
}

#[test]
fn nothing_secret_is_among_the_copies() {
    let coast = Coast::with_bakery();
    coast.json(&["certificate", "issue", "crumbandtide.example"], 0);
    coast.json(&["certificate", "issue", "crumbandtide.example", "--key", "p384"], 0);
    let mut stack = vec![coast.harbor().join("replaced")];
    let mut copies = 0;
    while let Some(folder) = stack.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            if entry.path().is_dir() {
                stack.push(entry.path());
                continue;
            }
            copies += 1;
            assert!(!String::from_utf8_lossy(&fs::read(entry.path()).unwrap()).contains("PRIVATE KEY"));
        }
    }
    assert!(copies > 0);
}
