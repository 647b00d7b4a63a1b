//! A CA that OpenSSL runs, with its list and its responder, for the tests of what is revoked and of what is stapled.

use std::fs;
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};

use serde_json::Value;

use super::servers::{Server, await_listener, need};
use crate::coast::{brightharbor, run};

/// A CA in a folder: `openssl ca` with its index, and a server that gives its list away, and `openssl ocsp`'s answers.
pub(super) struct Authority {
    folder: tempfile::TempDir,
    pub(super) list: Arc<Mutex<Vec<u8>>>,
    /// How OpenSSL answers as a responder, as its options; nothing, and it is out of order.
    pub(super) answering: Arc<Mutex<String>>,
    pub(super) fetched: Arc<AtomicUsize>,
}

impl Authority {
    pub(super) fn new() -> Self {
        Self::telling(|at| format!("crlDistributionPoints = URI:http://{at}/ca.crl"))
    }

    /// One whose certificates name its responder alone.
    pub(super) fn with_responder() -> Self {
        Self::telling(|at| format!("authorityInfoAccess = OCSP;URI:http://{at}/ask"))
    }

    /// One whose certificates tell of this address as the line of their extensions says.
    fn telling(line: impl Fn(SocketAddr) -> String) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let at = listener.local_addr().unwrap();
        let config = format!(
            "[ca]\ndefault_ca = own\n[own]\ndir = {dir}\ndatabase = {dir}/index\nserial = {dir}/serial\ncrlnumber = \
             {dir}/crlnumber\nnew_certs_dir = {dir}\ncertificate = {dir}/ca.pem\nprivate_key = {dir}/ca.key\ndefault_md = \
             sha256\npolicy = any\nunique_subject = no\ncopy_extensions = copy\n[any]\ncommonName = supplied\n\
             [req]\ndistinguished_name = name\n[name]\n[leaf]\nbasicConstraints = CA:FALSE\nsubjectAltName = \
             DNS:gullrock.example\n{line}\nextendedKeyUsage = serverAuth\n\
             [authority]\nbasicConstraints = critical,CA:TRUE\nkeyUsage = critical,keyCertSign,cRLSign\n\
             subjectKeyIdentifier = hash\n[responder]\nbasicConstraints = CA:FALSE\nextendedKeyUsage = OCSPSigning\n",
            line = line(at),
            dir = folder.path().display()
        );
        fs::write(folder.path().join("ca.cnf"), config).unwrap();
        fs::write(folder.path().join("index"), "").unwrap();
        fs::write(folder.path().join("serial"), "F000\n").unwrap();
        fs::write(folder.path().join("crlnumber"), "01\n").unwrap();
        let authority = Self { folder, list: Arc::default(), answering: Arc::default(), fetched: Arc::default() };
        const NEW_KEY: &str = "-newkey ec -pkeyopt ec_paramgen_curve:prime256v1 -nodes -config ca.cnf";
        authority.openssl(&format!(
            "req -x509 {NEW_KEY} -keyout root.key -out root.pem -days 30 -subj /CN=Root -extensions authority"
        ));
        authority.openssl(&format!("req -new {NEW_KEY} -keyout ca.key -out ca.csr -subj /CN=Tide"));
        authority.openssl(
            "x509 -req -in ca.csr -CA root.pem -CAkey root.key -out ca.pem -days 30 -extfile ca.cnf -extensions authority",
        );
        authority.openssl(&format!("req -new {NEW_KEY} -keyout leaf.key -out leaf.csr -subj /CN=gullrock"));
        authority.openssl("ca -batch -config ca.cnf -extensions leaf -days 20 -notext -in leaf.csr -out leaf.pem");
        let both = fs::read_to_string(authority.path("leaf.pem")).unwrap()
            + &fs::read_to_string(authority.path("ca.pem")).unwrap();
        fs::write(authority.path("chain.pem"), both).unwrap();
        for (name, extensions) in [("responder", "responder"), ("other", "leaf")] {
            authority.openssl(&format!("req -new {NEW_KEY} -keyout {name}.key -out {name}.csr -subj /CN={name}"));
            authority.openssl(&format!(
                "ca -batch -config ca.cnf -extensions {extensions} -days 20 -notext -in {name}.csr -out {name}.pem"
            ));
        }
        let (list, answering) = (Arc::clone(&authority.list), Arc::clone(&authority.answering));
        let (fetched, folder) = (Arc::clone(&authority.fetched), authority.folder.path().to_path_buf());
        std::thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let request = read_request(&mut stream);
                fetched.fetch_add(1, Ordering::SeqCst);
                let options = answering.lock().unwrap().clone();
                let body = match request {
                    None => list.lock().unwrap().clone(),
                    Some(_) if options.is_empty() => vec![],
                    Some(question) => answer(&folder, &question, &options),
                };
                let status = if body.is_empty() { "503 Out Of Order" } else { "200 OK" };
                let head = format!("HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n", body.len());
                let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(&body));
            }
        });
        authority
    }

    pub(super) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(super) fn openssl(&self, words: &str) {
        openssl(self.folder.path(), words);
    }

    /// Makes the list anew and gives it away from now on.
    pub(super) fn publish(&self, more: &str) {
        self.openssl(&format!("ca -gencrl -config ca.cnf -out ca.crl.pem {more}"));
        self.openssl("crl -in ca.crl.pem -outform DER -out ca.crl");
        *self.list.lock().unwrap() = fs::read(self.path("ca.crl")).unwrap();
    }

    /// What the responder with these options says of a certificate, as a file of this name.
    pub(super) fn staple(&self, name: &str, of: &str, options: &str) {
        self.openssl(&format!("ocsp -issuer ca.pem -cert {of} -no_nonce -reqout {name}.question"));
        let question = fs::read(self.path(&format!("{name}.question"))).unwrap();
        fs::write(self.path(name), answer(self.folder.path(), &question, options)).unwrap();
    }

    pub(super) fn serve(&self) -> (Server, SocketAddr) {
        self.serve_with(&[])
    }

    /// With more options of `openssl s_server`.
    pub(super) fn serve_with(&self, more: &[&str]) -> (Server, SocketAddr) {
        let address = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        let server = Server::spawn(
            Command::new(need("openssl", "openssl"))
                .args(["s_server", "-quiet", "-www", "-accept", &address.to_string()])
                .args(["-cert", "leaf.pem", "-cert_chain", "chain.pem", "-key", "leaf.key"])
                .args(more)
                .current_dir(self.folder.path())
                .stdout(Stdio::null())
                .stderr(Stdio::null()),
        );
        await_listener(address);
        (server, address)
    }
}

pub(super) fn check(address: SocketAddr, harbor: &Path) -> Value {
    let target = format!("gullrock.example:{}", address.port());
    let words = ["certificate", "check", &target, "--at", "127.0.0.1", "--json"];
    let done = run(brightharbor().args(words).env("BRIGHTHARBOR", harbor));
    serde_json::from_str::<Value>(&done.stdout).unwrap()["servers"][0].clone()
}

pub(super) fn has(server: &Value, code: &str) -> bool {
    server["findings"].as_array().unwrap().iter().any(|finding| finding["code"] == code)
}

/// The body of what is posted; `None` for a request without one.
pub(super) fn read_request(stream: &mut TcpStream) -> Option<Vec<u8>> {
    let mut read = Vec::new();
    let mut part = [0; 4096];
    loop {
        let more = stream.read(&mut part).unwrap_or(0);
        read.extend_from_slice(&part[..more]);
        let text = String::from_utf8_lossy(&read).to_ascii_lowercase();
        let head = read.windows(4).position(|window| window == b"\r\n\r\n").map(|at| at + 4);
        if let Some(head) = head {
            if !text.starts_with("post ") {
                return None;
            }
            assert!(text.contains("content-type: application/ocsp-request\r\n"), "{text}");
            let length = text.split("content-length: ").nth(1).and_then(|rest| rest.lines().next()?.parse().ok());
            if read.len() >= head + length.unwrap_or(0) {
                return Some(read[head..].to_vec());
            }
        }
        if more == 0 {
            return None;
        }
    }
}

fn answer(folder: &Path, question: &[u8], options: &str) -> Vec<u8> {
    fs::write(folder.join("question"), question).unwrap();
    openssl(folder, &format!("ocsp -index index -CA ca.pem {options} -reqin question -respout answer"));
    fs::read(folder.join("answer")).unwrap()
}

fn openssl(folder: &Path, words: &str) {
    let run = Command::new(need("openssl", "openssl")).args(words.split(' ')).current_dir(folder).output().unwrap();
    assert!(run.status.success(), "{words}: {}", String::from_utf8_lossy(&run.stderr));
}
