//! What is checked before a CA is asked: CAA records, proofs that are not shown; and dry runs, which ask for nothing.

use std::fs;

use serde_json::json;

use crate::coast::Coast;

#[test]
fn what_caa_records_forbid_is_told_before_the_ca_is_asked() {
    let coast = Coast::with_bakery();
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, settings.replace("[ca]\n", "[ca]\ncaa-identities = [\"ca.saltmarsh.example\"]\n")).unwrap();
    coast.run(&["record", "add", "crumbandtide.example", "CAA", "0 issue \"other.example\""]).expect(0);
    let refused = coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(4);
    let why = "the CAA records of crumbandtide.example allow other.example to issue, not ca.saltmarsh.example";
    assert!(refused.contains(why), "{refused}");
    // The subdomain has records of its own, which count; but a certificate for it alone would cover less than the one in
    // place.
    coast.run(&["record", "add", "www.crumbandtide.example", "CAA", "0 issue \"ca.saltmarsh.example\""]).expect(0);
    for dry in [&["--dry-run"][..], &[]] {
        let kept = coast.json(&[&["certificate", "renew", "crumbandtide.example"], dry].concat(), 4);
        assert_eq!(kept["error"]["code"], "not-validated", "{kept}");
        assert!(kept["error"]["message"].as_str().unwrap().contains(why), "{kept}");
    }
    let both = json!(["crumbandtide.example", "www.crumbandtide.example"]);
    assert_eq!(coast.json(&["site", "list"], 0)["sites"][0]["certificate"]["names"], both);
    let good = coast.json(&["certificate", "issue", "crumbandtide.example", "--dry-run"], 0);
    assert_eq!((&good["in_place"], &good["covers"]), (&json!(true), &both), "{good}");
    // A name that leads elsewhere is no reason for a certificate without it either.
    coast.run(&["record", "replace", "www.crumbandtide.example", coast.address_type(), coast.nowhere()]).expect(0);
    let kept = coast.json(&["certificate", "renew", "crumbandtide.example"], 4);
    assert_eq!(kept["error"]["code"], "would-cover-less", "{kept}");
    // On a new site, what can be had is had.
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]).expect(3);
    coast.run(&["record", "add", "gullrock.example", "CAA", "0 issue \"other.example\""]).expect(0);
    coast.run(&["record", "add", "www.gullrock.example", "CAA", "0 issue \"ca.saltmarsh.example\""]).expect(0);
    coast.delegate_here("gullrock.example");
    let foreseen = coast.json(&["certificate", "issue", "gullrock.example", "--dry-run"], 0);
    let why = "the CAA records of gullrock.example allow other.example to issue, not ca.saltmarsh.example";
    assert_eq!(foreseen["covers"], json!(["www.gullrock.example"]), "{foreseen}");
    assert_eq!(foreseen["left_out"], json!([{ "name": "gullrock.example", "reason": why }]));
    let partly = coast.json(&["certificate", "issue", "gullrock.example"], 3);
    assert_eq!(partly["certificate"]["names"], json!(["www.gullrock.example"]), "{partly}");
    assert_eq!(partly["certificate"]["left_out"][0]["name"], "gullrock.example");
}

#[test]
fn what_a_registry_forbids_holds_below_it_until_a_domain_says_otherwise() {
    let coast = Coast::with_bakery();
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, settings.replace("[ca]\n", "[ca]\ncaa-identities = [\"ca.saltmarsh.example\"]\n")).unwrap();
    coast.world.registrar.add_registry_record("example. CAA 0 issue \"registry.example\"").unwrap();
    let why = "the CAA records of example allow registry.example to issue, not ca.saltmarsh.example";
    let orders = coast.world.orders();
    for proof in ["http-01", "dns-01"] {
        let command = ["certificate", "renew", "crumbandtide.example", "--proof", proof, "--dry-run"];
        let foreseen = coast.json(&command, 4);
        assert!(foreseen["error"]["message"].as_str().unwrap().contains(why), "{foreseen}");
    }
    let refused = coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(4);
    assert!(refused.contains(why), "{refused}");
    assert_eq!(coast.world.orders(), orders, "the CA was not asked");
    coast.run(&["record", "add", "crumbandtide.example", "CAA", "0 issue \"ca.saltmarsh.example\""]).expect(0);
    coast.json(&["certificate", "renew", "crumbandtide.example"], 0);
}

#[test]
fn without_a_ca_to_ask_a_dry_run_says_so_and_makes_no_account() {
    let coast = Coast::new();
    coast.delegate_here("crumbandtide.example");
    coast.run(&["attach", "crumbandtide.example", "--account", "bakery"]);
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let silent = format!("\n[cas.silent]\ndirectory = \"https://{}:9/directory\"\n", coast.world.cast.ca());
    fs::write(&toml, settings + &silent).unwrap();
    let before = fs::read_dir(coast.harbor().join("ca")).unwrap().count();
    let command = ["certificate", "issue", "crumbandtide.example", "--ca", "silent", "--dry-run"];
    let said = coast.run(&command).expect(3);
    let covers = "would cover crumbandtide.example (http-01), www.crumbandtide.example (http-01)";
    assert!(said.split_whitespace().collect::<Vec<_>>().join(" ").contains(covers), "{said}");
    assert!(said.contains("The CA cannot be asked"), "{said}");
    assert_eq!(fs::read_dir(coast.harbor().join("ca")).unwrap().count(), before);
}

#[test]
fn a_proof_that_our_own_servers_do_not_all_show_is_told_before_the_ca_is_asked() {
    let coast = Coast::with_bakery();
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let (web, old) = (coast.world.cast.web(), coast.world.cast.old_web());
    fs::write(&toml, settings.replace(&format!("listen = [\"{web}\"]"), &format!("listen = [\"{web}\", \"{old}\"]")))
        .unwrap();
    let refused = coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(4);
    assert!(
        refused.contains("the web server does not show the proof") && refused.contains(&old.to_string()),
        "{refused}"
    );
    let left: Vec<_> = fs::read_dir(coast.harbor().join("proofs")).unwrap().collect();
    assert!(left.is_empty(), "{left:?}");
}
