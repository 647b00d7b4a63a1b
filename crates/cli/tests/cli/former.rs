//! Certificates that are over: cleared away by `tend` a month after their end, and never what is served or was imported.

use std::fs;

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
    let mut store = Store::open(&Layout::new(coast.harbor()).inventory()).unwrap();
    let mut certificate = store.certificate_of(&Host::parse(SITE).unwrap()).unwrap().unwrap();
    certificate.not_after = end.parse().unwrap();
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
