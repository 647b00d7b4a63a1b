//! Certificates as they are listed, and for monitoring.

use std::fs;

use serde_json::json;

use crate::coast::Coast;

#[test]
fn certificates_are_listed_with_what_they_do_not_cover() {
    let coast = Coast::with_bakery();
    let list = |more: &[&str], exit| coast.json(&[&["certificate", "list"], more].concat(), exit);
    let certificate = &list(&[], 0)["certificates"][0].clone();
    assert_eq!((&certificate["source"], &certificate["state"]), (&json!("ca"), &json!("served")), "{certificate}");
    assert_eq!((&certificate["uncovered"], &certificate["days_left"]), (&json!([]), &json!(89)));
    assert_eq!(list(&["--expiring", "10"], 0)["certificates"], json!([]));
    assert_eq!(list(&["--expiring", "90"], 3)["certificates"].as_array().unwrap().len(), 1);

    coast.run(&["attach", "gullrock.example", "--same-as", "crumbandtide.example", "--account", "bakery"]).expect(3);
    let uncovered = list(&[], 3)["certificates"][0]["uncovered"].clone();
    assert_eq!(uncovered, json!(["gullrock.example", "www.gullrock.example"]));
    let table = coast.run(&["certificate", "list", "--coverage"]).expect(3);
    assert!(table.starts_with("1 certificate, 2 hostnames not covered"), "{table}");
    assert!(table.contains("www.gullrock.example not covered: waits for its links"), "{table}");

    let file = coast.path("certificates.prom");
    list(&["--metrics", file.to_str().unwrap()], 3);
    let metrics = fs::read_to_string(&file).unwrap();
    assert!(metrics.contains("brightharbor_hostnames_uncovered{site=\"crumbandtide.example\"} 2\n"), "{metrics}");
    assert!(metrics.contains("brightharbor_certificate_served{site=\"crumbandtide.example\"} 1\n"), "{metrics}");
    let samples = metrics.lines().filter(|line| !line.starts_with('#'));
    assert!(samples.clone().all(|line| line.rsplit(' ').next().unwrap().parse::<i64>().is_ok()), "{metrics}");
}
