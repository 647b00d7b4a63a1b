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
