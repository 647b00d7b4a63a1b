//! How certificates are got from the CA: kinds of keys and proofs, wildcards, renewal, revocation, one for many sites.

use std::fs;
use std::path::PathBuf;

use brightharbor_core::certificate::{Certificate, CertificateFacts, read_chain};
use serde_json::json;

use crate::coast::Coast;

fn folders(coast: &Coast, site: &str) -> Vec<PathBuf> {
    let entries = fs::read_dir(coast.harbor().join("certificates").join(site)).unwrap();
    let mut folders: Vec<PathBuf> = entries.map(|entry| entry.unwrap().path()).collect();
    folders.sort();
    folders
}

/// The certificate that was installed last.
fn leaf(coast: &Coast, site: &str) -> CertificateFacts {
    let chain = fs::read(folders(coast, site).last().unwrap().join("chain.pem")).unwrap();
    read_chain(&chain).unwrap().remove(0)
}

fn key(coast: &Coast, site: &str) -> String {
    fs::read_to_string(folders(coast, site).last().unwrap().join("key.pem")).unwrap()
}

fn zone(coast: &Coast, domain: &str) -> String {
    fs::read_to_string(coast.harbor().join(format!("zones/{domain}.zone"))).unwrap()
}

#[test]
fn a_wildcard_is_proven_by_the_zone_which_is_clean_afterwards() {
    let coast = Coast::with_bakery();
    let dry = coast.json(&["certificate", "issue", "crumbandtide.example", "--wildcard", "--dry-run"], 0);
    assert_eq!(dry["covers"], json!(["crumbandtide.example", "*.crumbandtide.example"]));
    let issued = coast.json(&["certificate", "issue", "crumbandtide.example", "--wildcard"], 0);
    assert_eq!((&issued["certificate"]["outcome"], &issued["certificate"]["new"]), (&json!("served"), &json!(true)));
    let mut names = leaf(&coast, "crumbandtide.example").names;
    names.sort();
    assert_eq!(names, ["*.crumbandtide.example", "crumbandtide.example"]);
    assert!(!zone(&coast, "crumbandtide.example").contains("_acme-challenge"));
    let left: Vec<_> = fs::read_dir(coast.harbor().join("proofs")).unwrap().collect();
    assert!(left.is_empty(), "{left:?}");
    let table = coast.run(&["certificate", "list", "--coverage"]).expect(0);
    assert!(table.contains("*.crumbandtide.example"), "{table}");

    // The wish is kept: another one is got in the same way, and it is enough as it is.
    let again = coast.json(&["certificate", "issue", "crumbandtide.example"], 0);
    assert_eq!(again["certificate"]["new"], false);
    coast.json(&["certificate", "renew", "crumbandtide.example"], 0);
    assert_eq!(leaf(&coast, "crumbandtide.example").names.len(), 2);
    let refused = coast.run(&["certificate", "issue", "crumbandtide.example", "--proof", "http-01"]).expect(4);
    assert!(refused.contains("*.crumbandtide.example cannot be validated by http-01"), "{refused}");
    coast.json(&["certificate", "issue", "crumbandtide.example", "--wildcard=no"], 0);
    assert_eq!(leaf(&coast, "crumbandtide.example").names, ["crumbandtide.example", "www.crumbandtide.example"]);
}

#[test]
fn certificates_of_many_sites_come_with_one_change_and_one_that_is_refused_holds_up_no_other() {
    let coast = Coast::with_bakery();
    for name in ["shop", "cafe"] {
        coast.run(&["attach", &format!("{name}.crumbandtide.example"), "--account", "bakery"]);
    }
    coast.run(&["attach", "gullrock.example", "--account", "bakery", "--www", "none"]).expect(3);
    let dry = coast.json(&["certificate", "renew", "--account", "bakery", "--dry-run"], 3);
    let sites = dry["sites"].as_array().unwrap();
    let by = |name: &str| sites.iter().find(|one| one["site"] == name).unwrap();
    assert_eq!(sites.len(), 4, "{dry}");
    assert_eq!(by("cafe.crumbandtide.example")["covers"], json!(["cafe.crumbandtide.example"]));
    assert_eq!(by("gullrock.example")["covers"], json!([]), "{dry}");
    let before = coast.json(&["logbook"], 0)["entries"].as_array().unwrap().len();

    let issued = coast.json(&["certificate", "renew", "--account", "bakery", "--key", "p384"], 3);
    let outcomes: Vec<(&str, &str)> = issued["certificates"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["site"].as_str().unwrap(), one["outcome"].as_str().unwrap()))
        .collect();
    assert_eq!(outcomes.len(), 4, "{issued}");
    for (site, outcome) in outcomes {
        assert_eq!(outcome == "served", site != "gullrock.example", "{site}: {outcome}");
    }
    assert_eq!(leaf(&coast, "shop.crumbandtide.example").key, leaf(&coast, "crumbandtide.example").key);
    // How they are obtained, all installed, all settled.
    let entries = coast.json(&["logbook"], 0)["entries"].as_array().unwrap().len();
    assert!(entries - before <= 3, "{before} {entries}");

    // Several that are named, one of them twice.
    let two = ["certificate", "issue", "shop.crumbandtide.example", "www.crumbandtide.example", "crumbandtide.example"];
    let issued = coast.json(&two, 0);
    let new = issued["certificates"].as_array().unwrap().iter().map(|one| &one["new"]);
    assert_eq!(new.collect::<Vec<_>>(), [&json!(false), &json!(false)], "{issued}");
    assert!(coast.run(&two).expect(0).contains("all six links of each hold"));
    coast.run(&["account", "add", "boatyard", "--email", "yard@saltmarsh.example"]).expect(0);
    let none = coast.json(&["certificate", "issue", "--account", "boatyard"], 4);
    assert_eq!(none["error"]["code"], "no-sites");
}

#[test]
fn by_dns_a_certificate_comes_before_the_name_leads_here() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let old = ["record", "replace", "shop.crumbandtide.example", coast.address_type(), coast.nowhere()];
    coast.run(&old).expect(0);
    let elsewhere = coast.run(&["certificate", "renew", "shop.crumbandtide.example"]);
    assert!(elsewhere.stdout.contains(coast.nowhere()), "{elsewhere:?}");
    let issued = coast.json(&["certificate", "renew", "shop.crumbandtide.example", "--proof", "dns-01"], 3);
    assert_eq!(issued["certificate"]["outcome"], "served", "{issued}");
    assert_eq!(leaf(&coast, "shop.crumbandtide.example").names, ["shop.crumbandtide.example"]);
    assert!(!zone(&coast, "crumbandtide.example").contains("_acme-challenge"));
    let titles = coast.json(&["logbook"], 0).to_string();
    assert!(titles.contains("place the proofs for shop.crumbandtide.example"), "{titles}");
    assert!(titles.contains("take out the proofs for shop.crumbandtide.example"), "{titles}");
}

#[test]
fn the_proof_goes_to_where_its_alias_leads() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "gullrock.example", "--account", "bakery"]);
    coast.delegate_here("gullrock.example");
    coast.run(&["tend"]);
    let alias = ["record", "add", "_acme-challenge.gullrock.example", "CNAME", "gullrock.proofs.crumbandtide.example."];
    coast.run(&alias).expect(0);
    coast.done(&["certificate", "issue", "gullrock.example", "--wildcard"]);
    assert!(leaf(&coast, "gullrock.example").names.contains(&"*.gullrock.example".to_string()));
    assert!(zone(&coast, "gullrock.example").contains("CNAME"));
    assert!(!zone(&coast, "crumbandtide.example").contains("proofs"), "taken out again");
}

#[test]
fn keys_are_of_the_kind_asked_for_and_kept_on_request() {
    let coast = Coast::with_bakery();
    let site = "crumbandtide.example";
    assert_eq!(leaf(&coast, site).key, "EC P-256");
    coast.json(&["certificate", "issue", site, "--key", "p384"], 0);
    assert_eq!(leaf(&coast, site).key, "EC P-384");
    coast.json(&["certificate", "issue", site, "--key", "rsa2048"], 0);
    assert_eq!(leaf(&coast, site).key, "RSA 2048");
    let before = key(&coast, site);
    coast.json(&["certificate", "renew", site], 0);
    assert_ne!(key(&coast, site), before);
    let before = key(&coast, site);
    coast.json(&["certificate", "renew", site, "--keep-key"], 0);
    assert_eq!(key(&coast, site), before);
    coast.json(&["certificate", "renew", site], 0);
    assert_eq!(key(&coast, site), before);
}

#[test]
fn a_ca_that_is_not_in_the_settings_is_told() {
    let coast = Coast::with_bakery();
    let refused = coast.run(&["certificate", "issue", "crumbandtide.example", "--ca", "lighthouse"]).expect(4);
    assert!(refused.contains("no CA `lighthouse`") && refused.contains("[cas.lighthouse]"), "{refused}");
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    let start = settings.find("[ca]\n").unwrap();
    let end = settings[start + 1..].find("\n[").map_or(settings.len(), |at| start + 1 + at + 1);
    let second = settings[start..end].replace("[ca]", "[cas.lighthouse]");
    fs::write(&toml, settings + "\n" + &second).unwrap();
    let issued = coast.json(&["certificate", "issue", "crumbandtide.example", "--ca", "lighthouse"], 0);
    assert_eq!(issued["certificate"]["new"], true, "the other one came from another CA");
    coast.json(&["certificate", "revoke", "crumbandtide.example"], 0);
}

#[test]
fn what_the_ca_calls_back_is_renewed_by_the_next_run_of_the_timer() {
    let coast = Coast::with_bakery();
    let before = leaf(&coast, "crumbandtide.example").public_key;
    coast.world.revoke_all();
    assert_eq!(coast.json(&["tend", "--dry-run"], 3)["would_try"], json!(["crumbandtide.example"]));
    let tended = coast.json(&["tend"], 0);
    assert_eq!((&tended["tried"][0]["outcome"], &tended["tried"][0]["new"]), (&json!("served"), &json!(true)));
    assert_ne!(leaf(&coast, "crumbandtide.example").public_key, before);
    assert_eq!(coast.json(&["tend"], 0)["tried"], json!([]));
}

#[test]
fn a_renewal_that_fails_keeps_what_is_there_and_says_until_when_that_will_do() {
    let coast = Coast::with_bakery();
    let before = leaf(&coast, "crumbandtide.example").public_key;
    coast.world.revoke_all();
    coast.run(&["record", "add", "crumbandtide.example", "CAA", "0 issue \";\""]).expect(0);
    let tended = coast.json(&["tend"], 3);
    assert_eq!(tended["tried"][0]["outcome"], "refused", "{tended}");
    let (until, urgent) = (&tended["tried"][0]["kept_until"], &tended["tried"][0]["urgent_from"]);
    assert!(until.as_str().unwrap() > urgent.as_str().unwrap());
    assert_eq!(leaf(&coast, "crumbandtide.example").public_key, before);
    let later = coast.run(&["tend"]).expect(3);
    assert!(later.contains("crumbandtide.example: later, not before"), "{later}");
}

#[test]
fn an_order_for_one_name_takes_eight_requests() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "quay.crumbandtide.example", "--account", "bakery"]).expect(0);
    let before = coast.world.ca_requests();
    let started = std::time::Instant::now();
    coast.json(&["certificate", "renew", "quay.crumbandtide.example"], 0);
    let after = coast.world.ca_requests();
    // Nonce, order, authorization, challenge, authorization again, finalize, order again, certificate.
    assert_eq!((after.0 - before.0) - (after.1 - before.1), 8, "{before:?} {after:?}");
    // The pauses double from 5 ms on: so many questions fit into the time that it took.
    let most = (started.elapsed().as_millis() / 5 + 1).ilog2() as usize + 1;
    assert!(after.1 - before.1 <= most, "it asks again with pauses that grow: {before:?} {after:?}");
}

#[test]
fn another_site_takes_the_wildcard_and_follows_its_renewals() {
    let coast = Coast::with_bakery();
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery"]).expect(0);
    let share = ["certificate", "install", "--site", "shop.crumbandtide.example", "--from", "crumbandtide.example"];
    let refused = coast.run(&share).expect(4);
    assert!(
        refused.contains("does not cover shop.crumbandtide.example") && refused.contains("--wildcard"),
        "{refused}"
    );
    coast.json(&["certificate", "issue", "crumbandtide.example", "--wildcard"], 0);
    let shared = coast.json(&share, 0);
    assert_eq!(shared["certificate"]["outcome"], "served", "{shared}");
    let same = || {
        let (own, wild) = (leaf(&coast, "shop.crumbandtide.example"), leaf(&coast, "crumbandtide.example"));
        own.public_key == wild.public_key
    };
    assert!(same());
    let source = || {
        coast.json(&["certificate", "list"], 0)["certificates"]
            .as_array()
            .unwrap()
            .iter()
            .find(|one| one["site"] == "shop.crumbandtide.example")
            .unwrap()["source"]
            .clone()
    };
    assert_eq!(source(), "shared");
    coast.json(&["certificate", "renew", "crumbandtide.example"], 0);
    assert!(!same());
    assert_eq!(coast.json(&["tend"], 0)["tried"][0]["site"], "shop.crumbandtide.example");
    assert!(same());
    assert_eq!(coast.json(&["tend"], 0)["tried"], json!([]));
    // One of its own again.
    coast.json(&["certificate", "issue", "shop.crumbandtide.example"], 0);
    assert!(!same());
    assert_eq!(source(), "ca");
}

#[test]
fn a_zone_elsewhere_is_told_with_the_alias_that_would_do_for_each_name() {
    let coast = Coast::new();
    coast.run(&["attach", "gullrock.example", "--account", "bakery", "--zone", "elsewhere"]).expect(3);
    let refused = coast.run(&["certificate", "issue", "gullrock.example", "--proof", "dns-01"]).expect(4);
    for name in ["gullrock.example", "www.gullrock.example"] {
        assert!(refused.contains(&format!("{name}: its challenge record belongs into the zone")), "{refused}");
        assert!(refused.contains(&format!("_acme-challenge.{name} CNAME")), "{refused}");
    }
}

#[test]
fn what_one_batch_has_proven_is_settled_with_the_next() {
    let coast = Coast::with_bakery();
    let names: Vec<String> = (0..255).map(|number| format!("berth{number}.crumbandtide.example")).collect();
    for part in names.chunks(85) {
        let names: Vec<&str> = part.iter().map(String::as_str).collect();
        coast.run(&[&["attach"], &names[..], &["--account", "bakery"]].concat()).expect(3);
    }
    let before = coast.json(&["logbook"], 0)["entries"].as_array().unwrap().len();
    let tended = coast.json(&["tend"], 0);
    let served = |one: &&serde_json::Value| one["outcome"] == "served";
    assert_eq!(tended["tried"].as_array().unwrap().iter().filter(served).count(), 255, "{tended}");
    let logbook = coast.json(&["logbook"], 0)["entries"].clone();
    let new = &logbook.as_array().unwrap()[..logbook.as_array().unwrap().len() - before];
    let titles: Vec<&str> = new.iter().rev().map(|entry| entry["what"].as_str().unwrap()).collect();
    assert_eq!(
        titles,
        [
            "certificate issue for 250 sites",
            "certificate issue for 5 sites; those of 250 are served",
            "certificates of 5 sites are served",
        ]
    );
    let site = coast.json(&["site", "show", "berth7.crumbandtide.example"], 0)["site"].clone();
    assert_eq!(site["https"], "forced", "{site}");
    assert!(coast.run(&["tend"]).expect(0).contains("Nothing is pending"));
}

#[test]
fn a_profile_of_the_ca_is_kept_for_renewals() {
    const SITE: &str = "crumbandtide.example";
    let coast = Coast::with_bakery();
    let days = || {
        let leaf = leaf(&coast, SITE);
        (leaf.not_after.as_second() - leaf.not_before.as_second() + 43_200) / 86_400
    };
    let issue = |profile: &str, exit| coast.json(&["certificate", "issue", SITE, "--profile", profile], exit);
    let before = folders(&coast, SITE);
    let refused = issue("days", 4);
    assert_eq!(refused["error"]["code"], "profile-not-offered", "{refused:#}");
    assert!(refused["error"]["message"].as_str().unwrap().contains("it offers months, week"), "{refused:#}");
    assert_eq!(folders(&coast, SITE), before, "nothing was ordered");
    let dry = coast.json(&["certificate", "issue", SITE, "--profile", "days", "--dry-run"], 4);
    assert_eq!(dry["error"]["code"], "profile-not-offered", "{dry:#}");
    // Nor was it kept for renewals, which would all be refused.
    coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(days(), 90);
    coast.world.fail_ca_after(Some(0));
    fs::remove_dir_all(coast.harbor().join("ca")).unwrap();
    assert_eq!(issue("week", 4)["error"]["code"], "ca-silent");
    coast.world.fail_ca_after(None);
    issue("week", 0);
    assert_eq!(days(), 6);
    let listed = coast.json(&["certificate", "list"], 0);
    assert_eq!(listed["certificates"][0]["profile"], "week", "{listed:#}");
    assert!(coast.run(&["certificate", "list"]).stdout.contains("profile week"));
    let profiles = &coast.json(&["ca", "list"], 0)["cas"][0]["profiles"];
    assert_eq!(*profiles, json!({ "months": "for three months", "week": "for six days" }));
    // A renewal is of the same kind; what is there is enough, and another kind is another certificate.
    coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(days(), 6);
    let renewed = folders(&coast, SITE);
    coast.json(&["certificate", "issue", SITE], 0);
    assert_eq!(folders(&coast, SITE), renewed);
    issue("none", 0);
    assert_eq!(days(), 90);
    assert_eq!(coast.json(&["certificate", "list"], 0)["certificates"][0]["profile"], json!(null));
}

#[test]
fn a_profile_that_the_ca_withdraws_is_asked_for_until_it_is_urgent() {
    const SITE: &str = "crumbandtide.example";
    let coast = Coast::with_bakery();
    coast.json(&["certificate", "issue", SITE, "--profile", "week"], 0);
    coast.world.withdraw_profiles();
    // What was read of the CA a day ago.
    fs::remove_dir_all(coast.harbor().join("ca")).unwrap();
    let before = folders(&coast, SITE);
    let refused = coast.json(&["certificate", "renew", SITE], 4);
    assert_eq!(refused["error"]["code"], "profile-not-offered", "{refused:#}");
    assert_eq!(folders(&coast, SITE), before, "it has weeks");
    let after = |hours: i64| jiff::Timestamp::now() + jiff::SignedDuration::from_hours(hours);
    coast.record_certificate(SITE, |present| Certificate { not_before: after(-140), not_after: after(12), ..present });
    let renewed = coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(renewed["certificate"]["instead_of_profile"], "week", "{renewed:#}");
    let listed = coast.run(&["certificate", "list"]).expect(0);
    assert!(listed.contains("without profile week"), "{listed}");
    // It is still wished for, and asked for at the next renewal; what is there is good until then.
    coast.json(&["tend"], 0);
    assert_eq!(coast.json(&["certificate", "issue", SITE], 4)["error"]["code"], "profile-not-offered");
    coast.json(&["certificate", "issue", SITE, "--profile", "none"], 0);
    assert!(!coast.run(&["certificate", "list"]).expect(0).contains("without profile"));
}

#[test]
fn a_statement_that_cannot_be_had_is_waited_for_until_it_is_urgent() {
    const SITE: &str = "crumbandtide.example";
    let coast = Coast::with_bakery();
    let (before, placed) = (folders(&coast, SITE), coast.world.orders());
    // This CA names nobody who could make one.
    for _ in 0..2 {
        let refused = coast.json(&["certificate", "issue", SITE, "--stapled"], 4);
        assert_eq!(refused["error"]["code"], "no-staple", "{refused:#}");
        assert_eq!(coast.world.orders(), placed + 1, "the order goes on, and is not placed again");
    }
    assert_eq!(folders(&coast, SITE), before, "it has weeks");
    let after = |hours: i64| jiff::Timestamp::now() + jiff::SignedDuration::from_hours(hours);
    coast.record_certificate(SITE, |present| Certificate { not_before: after(-140), not_after: after(12), ..present });
    let renewed = coast.json(&["certificate", "renew", SITE], 0);
    let certificate = &renewed["certificate"];
    assert_eq!((&certificate["unstapled"], &certificate["stapled"]), (&true.into(), &false.into()), "{renewed:#}");
    assert!(coast.run(&["certificate", "list"]).expect(0).contains("without staple"));
    // It is still wished for, and asked for at the next renewal; what is there is good until then.
    assert_eq!(coast.json(&["tend"], 0)["tried"].as_array().unwrap().len(), 0);
    assert_eq!(coast.json(&["certificate", "issue", SITE], 4)["error"]["code"], "no-staple");
    coast.json(&["certificate", "issue", SITE, "--stapled=no"], 0);
    assert!(!coast.run(&["certificate", "list"]).expect(0).contains("without staple"));
}

/// A name that leads elsewhere by now, in a certificate that ends in two days.
#[test]
fn what_is_given_up_in_an_urgent_case_is_named_or_waited_for() {
    const SITE: &str = "crumbandtide.example";
    let coast = Coast::with_bakery();
    let after = |days: i64| jiff::Timestamp::now() + jiff::SignedDuration::from_hours(24 * days);
    coast.record_certificate(SITE, |present| Certificate { not_before: after(-88), not_after: after(2), ..present });
    let kind = coast.address_type();
    coast.run(&["record", "replace", "www.crumbandtide.example", kind, coast.nowhere()]).expect(0);
    let toml = coast.harbor().join("harbor.toml");
    let settings = fs::read_to_string(&toml).unwrap();
    fs::write(&toml, settings.replace("[ca]\n", "[ca]\nwhen-urgent = \"wait\"\n")).unwrap();
    let before = leaf(&coast, SITE);
    let waits = coast.json(&["certificate", "renew", SITE], 4);
    assert_eq!(waits["error"]["code"], "would-cover-less", "{waits:#}");
    assert_eq!(leaf(&coast, SITE), before);
    fs::write(&toml, settings).unwrap();
    let renewed = coast.json(&["certificate", "renew", SITE], 3);
    assert_eq!(leaf(&coast, SITE).names, [SITE]);
    let why = renewed["certificate"]["left_out"][0]["reason"].as_str().unwrap_or_default();
    assert!(why.contains("the certificate before covers it and ends on"), "{renewed:#}");
}
