//! Revoked certificates of a CA that OpenSSL runs: its list, fetched over http, decides what `certificate check` says.

use std::fs;
use std::path::Path;
use std::sync::atomic::Ordering;

use brightharbor_core::certificate::{Certificate, CertificateSource};
use serde_json::Value;

use super::authority::{Authority, check, has};
use crate::coast::{Coast, brightharbor, run};

#[test]
fn a_revoked_certificate_is_a_fault_and_one_on_no_list_is_not() {
    let authority = Authority::new();
    let (_server, address) = authority.serve();
    let seen = |words: &str| {
        let server = check(address, Path::new("/nowhere"));
        assert!(server["revocation"]["words"].as_str().unwrap().contains(words), "{words}: {server}");
        (server["revocation"]["status"].as_str().unwrap().to_string(), has(&server, "served-revoked"))
    };
    assert_eq!(seen("answers 503"), ("unknown".into(), false));
    authority.publish("-crldays 7");
    assert_eq!(seen("not revoked"), ("good".into(), false));
    authority.openssl("ca -revoke leaf.pem -crl_reason keyCompromise -config ca.cnf");
    assert_eq!(seen("not revoked"), ("good".into(), false), "the list is as old as it is");
    authority.publish("-crldays 7");
    assert_eq!(seen("revoked since"), ("revoked".into(), true));
    // One that nobody vouches for, or that is over, is no answer.
    authority.publish("-crlsec 1");
    std::thread::sleep(std::time::Duration::from_secs(2));
    assert_eq!(seen("out of date"), ("unknown".into(), false));
    let other = Authority::new();
    other.publish("-crldays 7");
    *authority.list.lock().unwrap() = other.list.lock().unwrap().clone();
    assert_eq!(seen("not signed by"), ("unknown".into(), false));
    *authority.list.lock().unwrap() = b"<html>a page</html>".to_vec();
    assert_eq!(seen("cannot be read"), ("unknown".into(), false));
}

#[test]
fn a_list_is_fetched_once_however_many_servers_are_looked_at() {
    let authority = Authority::new();
    authority.publish("-crldays 7");
    let servers: Vec<_> = (0..4).map(|_| authority.serve()).collect();
    let targets: Vec<String> =
        servers.iter().map(|(_, address)| format!("gullrock.example:{}", address.port())).collect();
    let mut words = vec!["certificate", "check", "--at", "127.0.0.1", "--json"];
    words.extend(targets.iter().map(String::as_str));
    let done = run(brightharbor().args(words).env("BRIGHTHARBOR", "/nowhere"));
    let checked: Value = serde_json::from_str(&done.stdout).unwrap();
    let all = checked["servers"].as_array().unwrap();
    assert!(all.len() == 4 && all.iter().all(|one| one["revocation"]["status"] == "good"), "{checked}");
    assert_eq!(authority.fetched.load(Ordering::SeqCst), 1);
}

/// The site of the yard with a certificate of the authority; as if the CA of the settings had issued it, or bought.
fn with_certificate(authority: &Authority, source: CertificateSource) -> Coast {
    let coast = Coast::new();
    coast.delegate_here("gullrock.example");
    let settings = fs::read_to_string(coast.harbor().join("harbor.toml")).unwrap();
    let roots = format!("trust-roots = [\"{}\", ", authority.path("root.pem").display());
    let settings = settings.replace("trust-roots = [", &roots);
    let without_ca = settings.replace("directory = ", "# directory = ");
    fs::write(coast.harbor().join("harbor.toml"), without_ca).unwrap();
    coast.run(&["attach", "gullrock.example", "--account", "bakery", "--www", "none"]);
    let [chain, key] = ["chain.pem", "leaf.key"].map(|name| authority.path(name).display().to_string());
    coast.run(&["certificate", "import", &chain, &key]).expect(0);
    coast.record_certificate("gullrock.example", |present| Certificate { source, ..present });
    fs::write(coast.harbor().join("harbor.toml"), settings).unwrap();
    coast
}

#[test]
fn the_timer_gets_another_for_one_that_its_ca_has_revoked_and_names_one_that_was_bought() {
    let authority = Authority::new();
    authority.publish("-crldays 7");
    let ours = with_certificate(&authority, CertificateSource::Ca);
    let state = |coast: &Coast| {
        let listed = coast.run(&["certificate", "list", "--json"]).stdout;
        serde_json::from_str::<Value>(&listed).unwrap()["certificates"][0].clone()
    };
    ours.run(&["tend"]);
    assert_eq!(state(&ours)["state"], "served", "{}", state(&ours));
    let asked = authority.fetched.load(Ordering::SeqCst);
    ours.run(&["tend"]);
    assert_eq!(authority.fetched.load(Ordering::SeqCst), asked, "kept for a while");

    authority.openssl("ca -revoke leaf.pem -crl_reason superseded -config ca.cnf");
    authority.publish("-crldays 7");
    // Those that were kept are of before.
    fs::remove_dir_all(ours.harbor().join("ca/lists")).unwrap();
    let issuer =
        |coast: &Coast| coast.json(&["certificate", "check", "gullrock.example"], 0)["servers"][0]["issuer"].clone();
    let tended = ours.run(&["tend"]).expect(0);
    assert!(tended.contains("its CA says that its certificate is revoked since"), "{tended}");
    assert_eq!(state(&ours)["state"], "served");
    assert_ne!(issuer(&ours), "CN=Tide", "the successor is of the CA of the settings");

    let bought = with_certificate(&authority, CertificateSource::Imported);
    let tended = bought.run(&["tend"]).expect(1);
    assert!(tended.contains("its imported certificate is revoked"), "{tended}");
    assert_eq!(state(&bought)["state"], "revoked");
    bought.run(&["certificate", "list"]).expect(1);
}

#[test]
fn a_survey_calls_a_revoked_certificate_broken_and_asks_its_ca_once() {
    let secure = |coast: &Coast| {
        let told = coast.run(&["survey", "gullrock.example", "--json"]).stdout;
        let document: Value = serde_json::from_str(&told).unwrap();
        let links = document["surveys"][0]["links"].as_array().unwrap().clone();
        let link = links.iter().find(|link| link["link"] == "secure").unwrap();
        (link["state"].as_str().unwrap().to_string(), link["code"].as_str().unwrap().to_string())
    };
    let authority = Authority::new();
    authority.publish("-crldays 7");
    let bought = with_certificate(&authority, CertificateSource::Imported);
    assert_eq!(secure(&bought), ("holds".into(), "verified".into()));
    assert_eq!(secure(&bought), ("holds".into(), "verified".into()));
    assert_eq!(authority.fetched.load(Ordering::SeqCst), 1, "the list is kept");
    authority.openssl("ca -revoke leaf.pem -config ca.cnf");
    authority.publish("-crldays 7");
    fs::remove_dir_all(bought.harbor().join("ca/lists")).unwrap();
    assert_eq!(secure(&bought), ("broken".into(), "revoked".into()));
    // A name that needs no harbor's knowledge: the same for whoever serves it.
    let told = bought.run(&["survey", "gullrock.example"]).stdout;
    assert!(told.contains("revoked by its CA since"), "{told}");
}
