//! 500 certificates by one `tend`, from the test CA, on a real nginx; beside what the CA itself sustains for a client that
//! keeps nothing. Not among the ordinary tests: `scripts/bench-orders` runs it.

use std::collections::HashSet;
use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use aws_lc_rs::digest;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use brightharbor_core::acme::{Brief, Machine, Payload, Request, Response, Signer, Step};
use brightharbor_core::name::Host;
use brightharbor_io::http::Connection;
use brightharbor_io::{clock, trust};
use serde_json::{Value, json};
use tokio::io::{AsyncReadExt, AsyncWriteExt};

use super::ca::{Ca, Manner};
use super::voyage::Port;

/// Names that are ordered for by either.
fn count() -> usize {
    std::env::var("ORDERS").ok().and_then(|text| text.parse().ok()).unwrap_or(500)
}

const AT_ONCE: usize = 4;

#[test]
#[ignore = "takes minutes; run by scripts/bench-orders"]
fn five_hundred_certificates() {
    let quick = Manner::default();
    let mut port = Port::with_ca("nginx", &quick);
    port.run(&["account", "add", "bakery", "--email", "baker@saltmarsh.example"]).expect(0);
    port.delegate_here("crumbandtide.example");
    port.run(&["attach", "crumbandtide.example", "--account", "bakery", "--www", "none"]);
    let (orders, most) = (count(), 100);
    let own = port.world.cast.web();
    let raw = match own {
        IpAddr::V4(address) => IpAddr::from([127, address.octets()[1], address.octets()[2], 99]),
        IpAddr::V6(_) => unreachable!("the tests are on IPv4 loopback"),
    };
    port.run(&["record", "add", "*.raw.crumbandtide.example", "A", &raw.to_string()]).expect(0);
    port.tend_until_served();

    // A fresh CA for each, as it slows down with what it holds.
    port.restart_ca(&quick);
    let client = sustained(&port.ca, SocketAddr::new(raw, port.world.cast.http_port), orders);
    println!("the CA for a client that keeps nothing, {AT_ONCE} orders at once: {client:.1} orders/s");

    port.restart_ca(&quick);
    let names: Vec<String> = (0..orders).map(|number| format!("berth{number}.crumbandtide.example")).collect();
    for part in names.chunks(most) {
        let mut words = vec!["attach"];
        words.extend(part.iter().map(String::as_str));
        words.extend(["--account", "bakery"]);
        port.run(&words);
    }
    let reloads = port.reloads();
    let watch = Watch::begin(port.orders());
    let (started, began) = (Instant::now(), clock::now());
    let tended = port.json(&["tend"], 0);
    let seconds = started.elapsed().as_secs_f64();
    let ordering = watch.end();
    let served = tended["tried"].as_array().unwrap().iter().filter(|one| one["outcome"] == "served").count();
    assert_eq!(served, orders, "{tended}");
    let rate = orders as f64 / seconds;
    println!("brightharbor: {ordering:.1} orders/s while it orders, {:.0} % of that", 100.0 * ordering / client);
    println!("brightharbor tend, from the links to the handshakes: {rate:.1} orders/s ({seconds:.1} s)");
    println!("with {} reloads; began {}", port.reloads() - reloads, began);
    for entry in port.json(&["logbook"], 0)["entries"].as_array().unwrap().iter().rev() {
        println!("  done {} {}", entry["at"], entry["what"]);
    }
}

/// Sees orders being placed, by the files that they are saved in.
struct Watch {
    stop: Arc<AtomicBool>,
    seen: JoinHandle<Vec<Instant>>,
}

impl Watch {
    fn begin(folder: PathBuf) -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = Arc::clone(&stop);
        let seen = std::thread::spawn(move || {
            let (mut known, mut times) = (HashSet::new(), Vec::new());
            while !stopped.load(Ordering::Relaxed) {
                for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten() {
                    let name = entry.file_name();
                    if name.to_string_lossy().ends_with(".order") && known.insert(name) {
                        times.push(Instant::now());
                    }
                }
                std::thread::sleep(Duration::from_millis(5));
            }
            times
        });
        Self { stop, seen }
    }

    /// Orders per second, without the pauses in which a batch is looked at and installed.
    fn end(self) -> f64 {
        self.stop.store(true, Ordering::Relaxed);
        let times = self.seen.join().unwrap();
        let gaps = times.windows(2).map(|pair| pair[1] - pair[0]).filter(|gap| *gap < Duration::from_millis(300));
        let (count, whole) = gaps.fold((0, Duration::ZERO), |(count, whole), gap| (count + 1, whole + gap));
        f64::from(count) / whole.as_secs_f64()
    }
}

/// Orders per second of a client in memory.
fn sustained(ca: &Ca, responder: SocketAddr, orders: usize) -> f64 {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    runtime.block_on(async {
        let key = Arc::new(Key::new());
        tokio::spawn(respond(responder, key.thumbprint()));
        // The account first, then orders side by side.
        let account = one_order(ca, &key, 100_000, None).await;
        let (next, started) = (Arc::new(AtomicUsize::new(0)), Instant::now());
        let workers = (0..AT_ONCE).map(|_| {
            let (next, key, account) = (Arc::clone(&next), Arc::clone(&key), account.clone());
            async move {
                loop {
                    let number = next.fetch_add(1, Ordering::Relaxed);
                    if number >= orders {
                        break;
                    }
                    one_order(ca, &key, number, Some(account.clone())).await;
                }
            }
        });
        futures_util::future::join_all(workers).await;
        orders as f64 / started.elapsed().as_secs_f64()
    })
}

/// Every proof that is asked for.
async fn respond(address: SocketAddr, thumbprint: String) {
    let listener = tokio::net::TcpListener::bind(address).await.unwrap();
    while let Ok((mut stream, _)) = listener.accept().await {
        let thumbprint = thumbprint.clone();
        tokio::spawn(async move {
            let mut buffer = vec![0; 2048];
            let length = stream.read(&mut buffer).await.unwrap_or(0);
            let text = String::from_utf8_lossy(&buffer[..length]).into_owned();
            let token = text.split(' ').nth(1).and_then(|path| path.rsplit('/').next()).unwrap_or_default();
            let body = format!("{token}.{thumbprint}");
            let answer =
                format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len());
            let _ = stream.write_all(answer.as_bytes()).await;
        });
    }
}

async fn one_order(ca: &Ca, key: &Key, number: usize, account: Option<String>) -> String {
    let brief = Brief {
        directory_url: ca.directory.clone(),
        names: vec![Host::parse(&format!("n{number}.raw.crumbandtide.example")).unwrap()],
        wildcards: vec![],
        proof: Default::default(),
        contact: None,
        terms_accepted: true,
        thumbprint: key.thumbprint(),
        external_account: None,
        preferred_chain: None,
        profile: None,
        stapled: false,
        replaces: None,
    };
    let url: url::Url = ca.directory.parse().unwrap();
    let authority = format!("{}:{}", url.host_str().unwrap(), url.port().unwrap());
    let tls = trust::client(trust::roots(std::slice::from_ref(&ca.https_root)).unwrap());
    let host = url.host_str().unwrap();
    let mut connection = Connection::open(authority.parse().unwrap(), host, &authority, Some(tls)).await.unwrap();
    let mut machine = Machine::new(brief, account);
    let mut ahead = clock::now();
    loop {
        match machine.next(clock::now().max(ahead)) {
            Step::Send(request) => {
                let answer = send(&mut connection, key, &request).await;
                machine.received(&answer, clock::now().max(ahead));
            }
            Step::PlaceProofs(_) => machine.proofs_placed(),
            // As soon as the CA can have got on.
            Step::WaitUntil(until) => {
                tokio::time::sleep(Duration::from_millis(5)).await;
                ahead = ahead.max(until);
            }
            Step::MakeRequest(names) => {
                let pair = rcgen::KeyPair::generate().unwrap();
                let names: Vec<String> = names.into_iter().map(String::from).collect();
                let params = rcgen::CertificateParams::new(names).unwrap();
                machine.request_made(params.serialize_request(&pair).unwrap().der());
            }
            Step::Finished { .. } => return machine.account().unwrap().to_string(),
            Step::Refused(refusal) => panic!("{refusal}"),
        }
    }
}

async fn send(connection: &mut Connection, key: &Key, request: &Request) -> Response {
    let path = request.url.splitn(4, '/').nth(3).map(|path| format!("/{path}")).unwrap();
    let (method, body) = match &request.payload {
        Payload::Get => ("GET", vec![]),
        Payload::Head => ("HEAD", vec![]),
        Payload::Signed { json, signer, nonce, .. } => ("POST", key.sign(&request.url, nonce, signer, json)),
    };
    let headers = [("content-type", "application/jose+json")];
    let answer = connection.send(method, &path, &headers, body, 1_000_000).await.unwrap();
    Response {
        status: answer.status,
        location: answer.header("location"),
        nonce: answer.header("replay-nonce"),
        retry_after: answer.header("retry-after"),
        alternates: vec![],
        next: None,
        body: answer.body,
    }
}

/// An account key of the test's own.
struct Key(EcdsaKeyPair);

impl Key {
    fn new() -> Self {
        Self(EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).unwrap())
    }

    fn jwk(&self) -> Value {
        let point = self.0.public_key().as_ref();
        json!({ "crv": "P-256", "kty": "EC", "x": encode(&point[1..33]), "y": encode(&point[33..65]) })
    }

    fn thumbprint(&self) -> String {
        encode(digest::digest(&digest::SHA256, self.jwk().to_string().as_bytes()).as_ref())
    }

    fn sign(&self, url: &str, nonce: &str, signer: &Signer, payload: &str) -> Vec<u8> {
        let mut header = json!({ "alg": "ES256", "nonce": nonce, "url": url });
        match signer {
            Signer::NewKey => header["jwk"] = self.jwk(),
            Signer::Account(account) => header["kid"] = json!(account),
        }
        let (protected, payload) = (encode(header.to_string().as_bytes()), encode(payload.as_bytes()));
        let signature = self.0.sign(&SystemRandom::new(), format!("{protected}.{payload}").as_bytes()).unwrap();
        let body = json!({ "protected": protected, "payload": payload, "signature": encode(signature.as_ref()) });
        body.to_string().into_bytes()
    }
}

fn encode(bytes: &[u8]) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}
