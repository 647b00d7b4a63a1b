//! Certificates that are over: cleared away by `tend` a month after their end, and never what is served or was imported.

use std::fs;

use brightharbor_core::certificate::{Certificate, CertificateSource};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::harbor::Layout;
use brightharbor_core::name::Host;
use brightharbor_io::store::Store;
use jiff::Timestamp;
use serde_json::json;

use crate::coast::{Coast, snapshot};

const SITE: &str = "crumbandtide.example";

/// Has the inventory say that the certificate of the site ended at a time.
fn let_it_end(coast: &Coast, end: &str) {
    let end = end.parse().unwrap();
    let_it_be(coast, |certificate| certificate.not_after = end);
}

/// Has the inventory say something else of the certificate of the site.
fn let_it_be(coast: &Coast, change: impl FnOnce(&mut Certificate)) {
    let mut store = Store::open(&Layout::new(coast.harbor()).inventory()).unwrap();
    let mut certificate = store.certificate_of(&Host::parse(SITE).unwrap()).unwrap().unwrap();
    change(&mut certificate);
    let mut set = ChangeSet::new("the certificate ends");
    set.inventory(InventoryChange::RecordCertificate(certificate));
    let entry = store.next_entry().unwrap();
    store.begin(entry, Timestamp::UNIX_EPOCH, "tester", &set, &[]).unwrap();
    store.commit(entry, &set).unwrap();
}

fn folders(coast: &Coast) -> Vec<String> {
    let entries = fs::read_dir(coast.harbor().join("certificates").join(SITE)).unwrap();
    let mut names: Vec<String> = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    names.sort();
    names
}

#[test]
fn a_month_after_its_end_a_certificate_goes_with_its_key() {
    let coast = Coast::with_bakery();
    let ended = "2026-08-01T00:00:00Z";
    let_it_end(&coast, ended);
    // It is still the one that is installed.
    coast.json(&["tend", "--dry-run"], 3);
    let first = folders(&coast);
    coast.json(&["certificate", "renew", SITE], 0);
    let both = folders(&coast);
    assert_eq!((both.len(), &both[0]), (2, &first[0]));
    // The second one is good for long: nothing is cleared away when the third takes its place.
    coast.json(&["certificate", "renew", SITE], 0);
    assert_eq!(folders(&coast).len(), 3);
    let before = snapshot(&coast.harbor().join("certificates"));
    assert_eq!(coast.json(&["tend", "--dry-run"], 0)["ended"], json!([]));
    assert_eq!(snapshot(&coast.harbor().join("certificates")), before);

    let tended = coast.json(&["tend"], 0);
    let ended = &tended["ended"][0];
    assert_eq!((&ended["code"], &ended["sites"]), (&json!("former-removed"), &json!([SITE])));
    let left = folders(&coast);
    assert_eq!((left.len(), &left[0]), (2, &both[1]));
    assert_eq!(coast.json(&["tend"], 0)["ended"], json!([]));
    let entry = &coast.json(&["logbook"], 0)["entries"][0];
    assert_eq!(entry["what"], "tend: clear away certificates that are over");
    coast.json(&["certificate", "check", "--all"], 0);
}

#[test]
fn what_was_imported_stays() {
    let coast = Coast::with_bakery();
    let made = coast.path("bought");
    fs::create_dir(&made).unwrap();
    let key = rcgen::KeyPair::generate().unwrap();
    let mut params = rcgen::CertificateParams::new([SITE.to_string(), format!("www.{SITE}")]).unwrap();
    params.not_after = rcgen::date_time_ymd(2031, 1, 1);
    let (chain_file, key_file) = (made.join("chain.pem"), made.join("key.pem"));
    fs::write(&chain_file, params.self_signed(&key).unwrap().pem()).unwrap();
    fs::write(&key_file, key.serialize_pem()).unwrap();
    let files = [chain_file.to_str().unwrap(), key_file.to_str().unwrap()];
    let import = ["certificate", "import", files[0], files[1], "--site", SITE];
    coast.run(&[&import[..], &["--untrusted"]].concat()).expect(1);
    let imported = folders(&coast).pop().unwrap();
    let_it_end(&coast, "2026-08-01T00:00:00Z");
    coast.json(&["certificate", "renew", SITE], 0);
    coast.json(&["tend"], 0);
    let key = coast.harbor().join("certificates").join(SITE).join(imported).join("key.pem");
    assert!(key.exists(), "its key may be nowhere else");
}

#[test]
fn a_former_certificate_is_listed_and_put_back_in_place() {
    let coast = Coast::with_bakery();
    let site = "crumbandtide.example";
    assert!(coast.run(&["certificate", "list", "--former"]).expect(0).contains("No former certificates"));
    let chain = || {
        let newest = folders(&coast).into_iter().max().unwrap();
        fs::read(coast.harbor().join("certificates").join(SITE).join(newest).join("chain.pem")).unwrap()
    };
    let first = chain();
    coast.run(&["certificate", "renew", site]).expect(0);
    assert_ne!(chain(), first);
    let listed = coast.json(&["certificate", "list", "--former"], 0);
    let former = &listed["former"][0];
    assert_eq!((&former["site"], &former["source"], &former["trusted"]), (&site.into(), &"ca".into(), &true.into()));
    let name = former["name"].as_str().unwrap();
    let page = coast.run(&["certificate", "list", "--former"]).expect(0);
    assert!(page.contains(name) && page.contains("trusted") && page.contains("--former NAME"), "{page}");

    let refused = coast.json(&["certificate", "install", "--site", site, "--former", "nowhere"], 4);
    assert_eq!(refused["error"]["code"], "no-former");
    assert!(coast.run(&["certificate", "install", "--site", site]).expect(2).contains("--former"));
    let put = ["certificate", "install", "--site", site, "--former", name];
    coast.run(&[&put[..], &["--dry-run"]].concat()).expect(0);
    assert_ne!(chain(), first, "a dry run changes nothing");
    let back = coast.json(&put, 0);
    assert_eq!(back["certificate"]["outcome"], "served", "{back}");
    assert_eq!(chain(), first);
    // It is what it was: the timer renews it when its time comes, and does not now.
    let listed = coast.json(&["certificate", "list"], 0);
    assert_eq!(listed["certificates"][0]["source"], "ca", "{listed}");
    assert!(coast.run(&["tend"]).expect(0).contains("Nothing is pending"));

    // One whose names are no longer all is refused.
    coast.run(&["attach", "shop.crumbandtide.example", "--account", "bakery", "--same-as", site]);
    coast.run(&["certificate", "issue", site]);
    let refused = coast.run(&put).expect(4);
    assert!(refused.contains("shop.crumbandtide.example"), "{refused}");
}

#[test]
fn what_is_under_way_is_listed_with_its_age() {
    let coast = Coast::with_bakery();
    assert!(coast.run(&["certificate", "list", "--under-way"]).expect(0).contains("Nothing is under way"));
    coast.run(&["certificate", "request", "crumbandtide.example"]).expect(0);
    // An order that the CA has stopped answering for.
    coast.world.fail_ca_after(Some(4));
    coast.run(&["certificate", "renew", "crumbandtide.example"]);
    coast.world.fail_ca_after(None);
    let listed = coast.json(&["certificate", "list", "--under-way"], 0);
    let kinds: Vec<&str> =
        listed["under_way"].as_array().unwrap().iter().map(|one| one["kind"].as_str().unwrap()).collect();
    assert_eq!(kinds, ["request", "order"], "{listed}");
    assert!(listed["under_way"][0]["age_seconds"].as_i64().is_some_and(|age| (0..60).contains(&age)), "{listed}");
    let page = coast.run(&["certificate", "list", "--under-way", "--account", "bakery"]).expect(0);
    assert!(page.contains("to be bought") && page.contains("order at a CA"), "{page}");
    // The age as all spans of time are written.
    let words: Vec<&str> = page.split_whitespace().collect();
    let ages = words.windows(2).filter(|two| two[1] == "s" && two[0].parse::<u8>().is_ok());
    assert_eq!(ages.count(), 2, "{page}");
    coast.run(&["certificate", "renew", "crumbandtide.example"]).expect(0);
    let listed = coast.json(&["certificate", "list", "--under-way"], 0);
    assert_eq!(listed["under_way"].as_array().unwrap().len(), 1, "{listed}");
}

#[test]
fn what_runs_out_and_is_renewed_by_nobody_here_is_named_by_the_timer_with_whom_to_write_to() {
    let coast = Coast::with_bakery();
    let now = Timestamp::now();
    let days = |days: i64| now + jiff::SignedDuration::from_hours(24 * days);
    let tend = |exit: i32| coast.json(&["tend"], exit)["running_out"].clone();
    assert_eq!(tend(0), json!([]));
    let_it_be(&coast, |one| {
        (one.source, one.not_before, one.not_after) = (CertificateSource::Imported, days(-300), days(40));
    });
    assert_eq!(tend(0), json!([]), "time enough");
    let_it_be(&coast, |one| one.not_after = days(20));
    let named = tend(3);
    assert_eq!((&named[0]["site"], &named[0]["email"]), (&SITE.into(), &"baker@saltmarsh.example".into()), "{named}");
    assert_eq!((&named[0]["source"], &named[0]["expired"]), (&"imported".into(), &false.into()), "{named}");
    let told = coast.run(&["tend"]).expect(3);
    assert!(told.contains("expires at") && told.contains("certificate request"), "{told}");
    let listed = coast.json(&["certificate", "list"], 3);
    let row = &listed["certificates"][0];
    assert_eq!(row["email"], "baker@saltmarsh.example", "{listed}");
    assert_eq!(row["hostnames"], json!([SITE, "www.crumbandtide.example"]));
    let_it_be(&coast, |one| one.not_after = days(-1));
    assert_eq!(tend(1)[0]["expired"], true);
    assert!(coast.run(&["tend"]).expect(1).contains("expired at"));
}
