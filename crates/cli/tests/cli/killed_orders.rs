//! An order that is killed at any of its saved states is finished by the next run, without a second one.

use std::fs;
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::coast::Coast;

/// The states of an order that the CA knows of, in their order.
const STATES: [&str; 8] =
    ["authorizations", "proofs", "challenges", "validations", "finalize", "issuance", "download", "finished"];

/// Starts a renewal and kills it in the moment that the order is saved in the state; whether that came about.
fn killed_at(coast: &Coast, state: &str, file: &Path) -> bool {
    let mut command = coast.command(&["certificate", "renew", "crumbandtide.example"]);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let deadline = Instant::now() + Duration::from_secs(20);
    loop {
        if fs::read(file).ok().and_then(|text| saved_state(&text)).as_deref() == Some(state) {
            child.kill().unwrap();
            child.wait().unwrap();
            // It may have gone on until the signal came.
            return fs::read(file).ok().and_then(|text| saved_state(&text)).as_deref() == Some(state);
        }
        if child.try_wait().unwrap().is_some() || Instant::now() > deadline {
            return false;
        }
    }
}

/// The state of the order that was saved last.
fn saved_state(text: &[u8]) -> Option<String> {
    let lines = text.split_inclusive(|octet| *octet == b'\n').filter(|line| line.ends_with(b"\n"));
    let mut orders = lines.filter_map(|line| serde_json::from_slice::<Value>(line).ok()?.get("order").cloned());
    match &orders.next_back()?["state"] {
        Value::String(word) => Some(word.clone()),
        Value::Object(of) => of.keys().next().cloned(),
        _ => None,
    }
}

#[test]
fn killed_at_every_saved_state_an_order_is_finished_and_no_second_one_is_made() {
    let coast = Coast::with_bakery();
    let folder = fs::read_dir(coast.harbor().join("ca")).unwrap().next().unwrap().unwrap().path();
    let file = folder.join("orders/crumbandtide.example.order");
    for state in STATES {
        let caught = (0..30).any(|_| {
            let before = coast.world.orders();
            let caught = killed_at(&coast, state, &file);
            if caught {
                coast.json(&["certificate", "renew", "crumbandtide.example"], 0);
                assert_eq!(coast.world.orders(), before + 1, "killed at `{state}`, a second order was made");
                assert!(!file.exists(), "the order is done with");
            }
            caught
        });
        assert!(caught, "the state `{state}` was never caught");
        let left = fs::read_dir(coast.harbor().join("proofs")).unwrap().count();
        assert_eq!(left, 0, "killed at `{state}`, a proof was left");
    }
    // The key and the certificate that are served in the end belong together.
    coast.json(&["certificate", "check", "--all"], 0);
}
