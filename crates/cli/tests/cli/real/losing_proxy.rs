//! A proxy before the test CA of the `pebble` package that does something to one answer: the request arrives, and what comes
//! back is lost, late, cut off or sent twice. The CA tells its URLs by the Host field, so that all requests come through.

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicUsize, Ordering};
use std::time::Duration;

use brightharbor_io::trust;
use rcgen::{CertificateParams, KeyPair, SanType};
use rustls::pki_types::{PrivateKeyDer, ServerName};
use rustls::{ClientConnection, ServerConfig, ServerConnection, StreamOwned};

use super::ca::{Ca, Manner, start_ca_with};
use crate::coast::Coast;

/// What happens to an answer on its way.
#[derive(Clone, Copy)]
enum Harm {
    Lost,
    /// It comes after so long.
    Late(Duration),
    /// Half of it comes.
    Cut,
    /// A second copy comes at once: whoever asks on in the same connection must not take it for another answer.
    Twice,
}

struct Proxy {
    address: SocketAddr,
    /// Requests that came through.
    seen: Arc<AtomicUsize>,
    /// Orders that were placed through it.
    orders: Arc<AtomicUsize>,
    /// How many answers pass before one is harmed; below zero: all pass.
    passes: Arc<AtomicI64>,
}

impl Proxy {
    fn start(folder: &Path, ca: &Ca, at: std::net::IpAddr, harm: Harm) -> Self {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::default();
        params.subject_alt_names = vec![SanType::IpAddress(at)];
        let certificate = params.self_signed(&key).unwrap();
        std::fs::write(folder.join("proxy.pem"), certificate.pem()).unwrap();
        let key = PrivateKeyDer::Pkcs8(key.serialize_der().into());
        let config = ServerConfig::builder_with_provider(trust::provider())
            .with_safe_default_protocol_versions()
            .unwrap()
            .with_no_client_auth()
            .with_single_cert(vec![certificate.der().clone()], key)
            .unwrap();
        let client = trust::client(trust::roots(std::slice::from_ref(&ca.https_root)).unwrap());
        let upstream: SocketAddr =
            ca.directory.trim_start_matches("https://").trim_end_matches("/dir").parse().unwrap();
        let listener = TcpListener::bind((at, 0)).unwrap();
        let address = listener.local_addr().unwrap();
        let (seen, orders) = <(Arc<AtomicUsize>, Arc<AtomicUsize>)>::default();
        let passes = Arc::new(AtomicI64::new(-1));
        let (counted, placed, left, config) =
            (Arc::clone(&seen), Arc::clone(&orders), Arc::clone(&passes), Arc::new(config));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (counted, placed, left) = (Arc::clone(&counted), Arc::clone(&placed), Arc::clone(&left));
                let (config, client) = (Arc::clone(&config), Arc::clone(&client));
                std::thread::spawn(move || {
                    let mut from = StreamOwned::new(ServerConnection::new(config).unwrap(), stream);
                    while let Some(request) = message(&mut from) {
                        let name = ServerName::IpAddress(upstream.ip().into());
                        let connection = ClientConnection::new(Arc::clone(&client), name).unwrap();
                        let mut to = StreamOwned::new(connection, TcpStream::connect(upstream).unwrap());
                        to.write_all(&request).unwrap();
                        let Some(answer) = message(&mut to) else { return };
                        counted.fetch_add(1, Ordering::SeqCst);
                        let is_order = request.starts_with(b"POST /order-plz ") && answer.starts_with(b"HTTP/1.1 201");
                        placed.fetch_add(usize::from(is_order), Ordering::SeqCst);
                        // The one that makes it zero is harmed; from then on all pass.
                        let is_harmed = left.load(Ordering::SeqCst) >= 0 && left.fetch_sub(1, Ordering::SeqCst) == 0;
                        let sent = match harm {
                            _ if !is_harmed => answer,
                            Harm::Lost => return,
                            Harm::Cut => answer[..answer.len() / 2].to_vec(),
                            Harm::Twice => answer.repeat(2),
                            Harm::Late(after) => {
                                std::thread::sleep(after);
                                answer
                            }
                        };
                        let ends = is_harmed && matches!(harm, Harm::Cut);
                        if from.write_all(&sent).and_then(|()| from.flush()).is_err() || ends {
                            return;
                        }
                    }
                });
            }
        });
        Self { address, seen, orders, passes }
    }

    fn harm_after(&self, answers: usize) {
        self.passes.store(i64::try_from(answers).unwrap(), Ordering::SeqCst);
    }
}

/// One message of HTTP/1.1, head and body; `None` at the end of the connection.
fn message(stream: &mut impl Read) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    let mut one = [0; 1];
    while !bytes.ends_with(b"\r\n\r\n") {
        if stream.read(&mut one).ok()? == 0 {
            return None;
        }
        bytes.push(one[0]);
    }
    let head = String::from_utf8_lossy(&bytes).to_ascii_lowercase();
    let field =
        |name: &str| head.lines().find_map(|line| line.strip_prefix(name)).map(|value| value.trim().to_string());
    // An answer to HEAD tells a length and has no body; the CA's nonces are such.
    let is_to_head = head.starts_with("http/") && field("content-length:").is_none_or(|length| length == "0");
    if head.contains("transfer-encoding: chunked") {
        while !bytes.ends_with(b"\r\n0\r\n\r\n") {
            if stream.read(&mut one).ok()? == 0 {
                return None;
            }
            bytes.push(one[0]);
        }
        return Some(bytes);
    }
    let length: usize = field("content-length:").and_then(|length| length.parse().ok()).unwrap_or(0);
    if !is_to_head && length > 0 {
        let mut body = vec![0; length];
        stream.read_exact(&mut body).ok()?;
        bytes.extend(body);
    }
    Some(bytes)
}

const SITE: &str = "crumbandtide.example";
/// Requests of a renewal by a CA that never lets wait.
const FEWEST: usize = 8;

#[test]
fn each_answer_of_the_test_ca_may_get_lost() {
    harm_each(Harm::Lost);
}

#[test]
fn each_answer_of_the_test_ca_may_be_late() {
    harm_each(Harm::Late(Duration::from_secs(2)));
}

#[test]
fn each_answer_of_the_test_ca_may_be_cut_off() {
    harm_each(Harm::Cut);
}

#[test]
fn each_answer_of_the_test_ca_may_come_twice() {
    harm_each(Harm::Twice);
}

/// Later than anybody waits for it: the request has arrived all the same.
#[test]
fn an_answer_of_the_test_ca_may_be_later_than_it_is_waited_for() {
    harm_some(Harm::Late(Duration::from_secs(23)), |at| at == 1);
}

fn harm_each(harm: Harm) {
    harm_some(harm, |_| true);
}

/// Whatever happens to which answer: the renewal is there after the same run or the next one, with one order.
fn harm_some(harm: Harm, is_meant: impl Fn(usize) -> bool) {
    let coast = Coast::with_bakery();
    let ca = start_ca_with(&coast.world.cast, coast.folder.path(), &Manner::default());
    let proxy = Proxy::start(coast.folder.path(), &ca, coast.world.cast.ca(), harm);
    let toml = coast.harbor().join("harbor.toml");
    let text = std::fs::read_to_string(&toml).unwrap();
    let roots = format!("trust-roots = [\"{}\", ", ca.root.display());
    let table = format!(
        "\n[cas.pier]\ndirectory = \"https://{}/dir\"\nterms-accepted = true\ntrust-root = \"{}\"\n",
        proxy.address,
        coast.path("proxy.pem").display()
    );
    std::fs::write(&toml, text.replace("trust-roots = [", &roots) + &table).unwrap();
    coast.json(&["certificate", "issue", SITE, "--ca", "pier"], 0);
    let before = proxy.seen.load(Ordering::SeqCst);
    coast.json(&["certificate", "renew", SITE], 0);
    let whole = proxy.seen.load(Ordering::SeqCst) - before;
    assert!((6..30).contains(&whole), "{whole}");
    for harmed in (0..whole).filter(|at| is_meant(*at)) {
        let placed = proxy.orders.load(Ordering::SeqCst);
        proxy.harm_after(harmed);
        let renewed = coast.run(&["certificate", "renew", SITE]);
        let tended = coast.run(&["tend"]);
        assert!(renewed.exit == 0 || tended.exit == 0, "answer {harmed}: {renewed:?}\n{tended:?}");
        if proxy.passes.load(Ordering::SeqCst) >= 0 {
            // A CA that validates sooner than the one counted is asked less often.
            assert!(harmed >= FEWEST, "answer {harmed} was not harmed");
            break;
        }
        assert_eq!(proxy.orders.load(Ordering::SeqCst), placed + 1, "answer {harmed}: {renewed:?}\n{tended:?}");
        coast.json(&["certificate", "check", SITE], 0);
    }
}
