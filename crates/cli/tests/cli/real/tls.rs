//! What a real server of the old kind shows over TLS, started with OpenSSL's own, and what is said of it.

use std::fs;
use std::net::{SocketAddr, TcpListener};
use std::path::Path;
use std::process::{Command, Stdio};

use rcgen::{CertificateParams, KeyPair};
use serde_json::{Value, json};

use super::servers::{Server, await_listener, need};
use crate::coast::{brightharbor, run};

/// OpenSSL's server with a self-signed certificate and further options.
pub(super) fn start(folder: &Path, more: &[&str]) -> (Server, SocketAddr) {
    start_at("127.0.0.1:0", folder, more)
}

fn start_at(place: &str, folder: &Path, more: &[&str]) -> (Server, SocketAddr) {
    let key = KeyPair::generate_for(&rcgen::PKCS_ECDSA_P256_SHA256).unwrap();
    let params = CertificateParams::new(vec!["gullrock.example".to_string()]).unwrap();
    let (chain, key_file) = (folder.join("chain.pem"), folder.join("key.pem"));
    fs::write(&chain, params.self_signed(&key).unwrap().pem()).unwrap();
    fs::write(&key_file, key.serialize_pem()).unwrap();
    let address = TcpListener::bind(place).unwrap().local_addr().unwrap();
    let server = Server::spawn(
        Command::new(need("openssl", "openssl"))
            .args(["s_server", "-quiet", "-www", "-accept", &address.to_string()])
            .args(["-cert", chain.to_str().unwrap(), "-key", key_file.to_str().unwrap()])
            .args(more)
            .stdout(Stdio::null())
            .stderr(Stdio::null()),
    );
    await_listener(address);
    (server, address)
}

fn check(address: SocketAddr, host: &str, exit: i32) -> Value {
    let target = format!("{host}:{}", address.port());
    let words = ["certificate", "check", &target, "--at", "127.0.0.1", "--json"];
    let done = run(brightharbor().args(words).env("BRIGHTHARBOR", "/nowhere"));
    assert_eq!(done.exit, exit, "{done:?}");
    serde_json::from_str::<Value>(&done.stdout).unwrap()["servers"][0].clone()
}

fn codes(server: &Value) -> Vec<&str> {
    server["findings"].as_array().unwrap().iter().map(|finding| finding["code"].as_str().unwrap()).collect()
}

#[test]
fn old_versions_and_weak_ciphers_are_found() {
    let folder = tempfile::tempdir().unwrap();
    let loose = ["-cipher", "ALL:eNULL:@SECLEVEL=0", "-min_protocol", "TLSv1"];
    let (_server, address) = start(folder.path(), &loose);
    let seen = check(address, "gullrock.example", 1);
    assert_eq!(seen["versions"], json!(["TLS 1.0", "TLS 1.1", "TLS 1.2", "TLS 1.3"]), "{seen}");
    assert_eq!(codes(&seen), ["served-not-trusted", "old-tls-offered", "weak-cipher-accepted"], "{seen}");
    let suites = ["authenticated", "block-chaining", "no-authentication", "no-encryption"];
    assert_eq!(seen["cipher_suites"], json!(suites), "an EC key carries no secret: {seen}");
    let other = check(address, "lanternchoir.example", 1);
    assert!(codes(&other).contains(&"served-name-not-covered"), "{other}");
}

#[test]
fn a_server_of_today_has_neither() {
    let folder = tempfile::tempdir().unwrap();
    let (_server, address) = start(folder.path(), &["-min_protocol", "TLSv1.2"]);
    let started = std::time::Instant::now();
    let seen = check(address, "gullrock.example", 1);
    assert!(started.elapsed().as_secs() < 15, "this server never answers a request for a page's head");
    assert_eq!(seen["versions"], json!(["TLS 1.2", "TLS 1.3"]), "{seen}");
    assert_eq!(codes(&seen), ["served-not-trusted"], "{seen}");
}

/// OpenSSL's server with an RSA key, TLS 1.2 at most and these suites.
fn with_suites(folder: &Path, suites: &str, more: &[&str]) -> (Server, SocketAddr) {
    let (cert, key) = rsa_pair(folder, "gullrock.example");
    start(folder, &[&["-cert", &cert, "-key", &key, "-cipher", suites, "-no_tls1_3"], more].concat())
}

fn rsa_pair(folder: &Path, name: &str) -> (String, String) {
    let place = |kind: &str| folder.join(kind).to_str().unwrap().to_string();
    let (cert, key) = (place("rsa.pem"), place("rsa.key"));
    let made = Command::new(need("openssl", "openssl"))
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "9", "-subj", "/CN=old", "-keyout", &key])
        .args(["-addext", &format!("subjectAltName=DNS:{name}"), "-out", &cert])
        .stderr(Stdio::null())
        .status();
    assert!(made.unwrap().success());
    (cert, key)
}

#[test]
fn a_server_that_takes_old_suites_alone_is_seen_as_browsers_see_it() {
    for (suites, family) in [
        ("AES128-SHA", "key-transport"),
        ("AES256-GCM-SHA384", "key-transport"),
        ("ECDHE-RSA-AES256-SHA", "block-chaining"),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let (_server, address) = with_suites(folder.path(), suites, &[]);
        let seen = check(address, "gullrock.example", 1);
        assert_eq!(seen["failed"], json!(null), "{suites} {seen}");
        assert_eq!((&seen["versions"], &seen["cipher_suites"]), (&json!(["TLS 1.2"]), &json!([family])), "{seen}");
        assert_eq!((&seen["names"], &seen["key"]), (&json!(["gullrock.example"]), &json!("RSA 2048")), "{suites}");
        assert_eq!(seen["without_name"], json!(["gullrock.example"]), "{suites}");
        assert_eq!(codes(&seen), ["served-not-trusted", "old-suites-alone"], "{suites} {seen}");
    }
}

#[test]
fn what_no_browser_takes_is_no_https_and_its_certificate_is_seen_all_the_same() {
    let cases: [(&str, &[&str], &str); 4] = [
        ("CAMELLIA128-SHA", &[], "RSA key transport"),
        ("DHE-RSA-AES128-GCM-SHA256", &[], "authenticated encryption"),
        ("ALL:@SECLEVEL=0", &["-min_protocol", "TLSv1", "-max_protocol", "TLSv1"], "speaks TLS 1.0 at most"),
        ("ALL:@SECLEVEL=0", &["-min_protocol", "TLSv1.1", "-max_protocol", "TLSv1.1"], "speaks TLS 1.1 at most"),
    ];
    for (suites, more, why) in cases {
        let folder = tempfile::tempdir().unwrap();
        let (_server, address) = with_suites(folder.path(), suites, more);
        let seen = check(address, "gullrock.example", 1);
        assert!(seen["failed"].as_str().unwrap().contains(why), "{seen}");
        assert_eq!(seen["names"], json!(["gullrock.example"]), "{seen}");
        assert!(codes(&seen).starts_with(&["tls-not-spoken"]), "{seen}");
    }
}

#[test]
fn a_certificate_that_old_visitors_alone_are_shown_is_looked_at() {
    let folder = tempfile::tempdir().unwrap();
    let (cert, key) = rsa_pair(folder.path(), "lanternchoir.example");
    let suites = "ECDHE-ECDSA-AES128-GCM-SHA256:AES128-SHA";
    let (_server, address) = start(folder.path(), &["-dcert", &cert, "-dkey", &key, "-cipher", suites, "-no_tls1_3"]);
    let servers = all(address);
    assert_eq!(servers.len(), 2, "{servers:#?}");
    assert_eq!((&servers[1]["asked_for"], &servers[1]["names"]), (&json!("RSA"), &json!(["lanternchoir.example"])));
    assert_eq!(servers[0]["cipher_suites"], json!(["authenticated", "key-transport"]));
}

/// All that is told of the server.
fn all(address: SocketAddr) -> Vec<Value> {
    let target = format!("gullrock.example:{}", address.port());
    let words = ["certificate", "check", &target, "--at", "127.0.0.1", "--json"];
    let done = run(brightharbor().args(words).env("BRIGHTHARBOR", "/nowhere"));
    serde_json::from_str::<Value>(&done.stdout).unwrap()["servers"].as_array().unwrap().clone()
}

#[test]
fn certificates_of_two_kinds_of_keys_are_both_looked_at() {
    let folder = tempfile::tempdir().unwrap();
    let (cert, key) = rsa_pair(folder.path(), "lanternchoir.example");
    // The one that few visitors are shown is the one that somebody forgot.
    let (_server, address) = start(folder.path(), &["-dcert", &cert, "-dkey", &key]);
    let servers = all(address);
    assert_eq!(servers.len(), 2, "{servers:#?}");
    assert_eq!((&servers[0]["asked_for"], &servers[0]["names"]), (&json!(null), &json!(["gullrock.example"])));
    assert_eq!((&servers[1]["asked_for"], &servers[1]["names"]), (&json!("RSA"), &json!(["lanternchoir.example"])));
    assert_eq!(servers[1]["key"], "RSA 2048");
    let found = codes(&servers[1]);
    assert!(found.contains(&"served-name-not-covered"), "{found:?}");
}

#[test]
fn a_server_that_wants_a_certificate_of_the_visitor_shows_its_own() {
    for versions in [&["-tls1_2"][..], &["-tls1_3"], &[]] {
        let folder = tempfile::tempdir().unwrap();
        let (_server, address) = start(folder.path(), &[&["-Verify", "1"], versions].concat());
        let servers = all(address);
        assert_eq!(servers.len(), 1, "{servers:#?}");
        assert_eq!(servers[0]["asks_for_client"], true, "{versions:?} {servers:#?}");
        assert_eq!(servers[0]["names"], json!(["gullrock.example"]));
        assert_eq!(codes(&servers[0]), ["served-not-trusted"], "{versions:?}");
        let shown = servers[0]["versions"].as_array().unwrap().len();
        assert_eq!(shown, if versions.is_empty() { 2 } else { 1 }, "{versions:?} {servers:#?}");
    }
}

#[test]
fn a_server_is_checked_at_its_address_of_either_family() {
    let folder = tempfile::tempdir().unwrap();
    let (_server, address) = start_at("[::1]:0", folder.path(), &[]);
    let words = ["certificate", "check", &address.to_string(), "--json"];
    let done = run(brightharbor().args(words).env("BRIGHTHARBOR", "/nowhere"));
    let seen = serde_json::from_str::<Value>(&done.stdout).unwrap()["servers"][0].clone();
    assert_eq!(seen["address"], address.to_string(), "{seen}");
    assert_eq!(codes(&seen), ["served-name-not-covered", "served-not-trusted"], "{seen}");
}

#[test]
fn a_chain_of_a_thousand_certificates_ends_with_a_reason() {
    let folder = tempfile::tempdir().unwrap();
    let key = KeyPair::generate().unwrap();
    let one = CertificateParams::new(vec!["quay.example".to_string()]).unwrap().self_signed(&key).unwrap().pem();
    let chain = folder.path().join("thousand.pem");
    fs::write(&chain, one.repeat(1_000)).unwrap();
    let (_server, address) = start(folder.path(), &["-cert_chain", chain.to_str().unwrap()]);
    let started = std::time::Instant::now();
    let seen = check(address, "gullrock.example", 1);
    assert_eq!(codes(&seen), ["tls-not-spoken"], "{seen}");
    assert!(started.elapsed().as_secs() < 10);
}

#[test]
fn what_is_no_tls_ends_at_once() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming() {
            use std::io::Write;
            // Endless, and no TLS.
            let mut stream = stream.unwrap();
            std::thread::spawn(move || while stream.write_all(&[b'x'; 4096]).is_ok() {});
        }
    });
    let started = std::time::Instant::now();
    assert_eq!(codes(&check(address, "gullrock.example", 1)), ["tls-not-spoken"]);
    assert!(started.elapsed().as_secs() < 10);
}
