//! A visitor who asks the real servers all the time while commands run: no answer about a name that was not meant may get
//! worse, not even for a moment.

use std::net::SocketAddr;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use brightharbor_core::delegation::{Outcome, Question};
use brightharbor_core::name::{DnsName, Host};
use brightharbor_core::survey::TlsOutcome;
use brightharbor_core::zone::{RecordData, RecordType};
use brightharbor_io::dns::ask;
use brightharbor_io::http::Connection;
use brightharbor_io::probe::shake_hands;
use brightharbor_io::trust::{self, Roots};
use brightharbor_standins::Cast;

/// What a visitor asks again and again.
#[derive(Debug, Clone)]
pub enum Asked {
    /// A page, with the place that it is sent to and the header that binds browsers to https.
    Page { host: String, https: bool },
    /// A set of records at the provider's first nameserver, with the serial of its zone.
    Records { zone: String, name: String, record_type: RecordType },
}

impl Asked {
    /// Both pages of a host.
    pub fn host(host: &str) -> [Self; 2] {
        [false, true].map(|https| Self::Page { host: host.into(), https })
    }

    pub fn records(zone: &str, name: &str, record_type: RecordType) -> Self {
        Self::Records { zone: zone.into(), name: name.into(), record_type }
    }
}

/// What came back: what has to stay the same, and a number that must not fall.
type Seen = (String, i64);

pub struct Monitor {
    ends: Arc<AtomicBool>,
    /// How often all was asked so far.
    rounds: Arc<AtomicUsize>,
    thread: JoinHandle<(usize, Vec<String>)>,
}

impl Monitor {
    /// Takes what is answered now as what has to stay. `root` is what certificates are verified with.
    pub fn start(cast: &Cast, root: &Path, asked: Vec<Asked>) -> Self {
        let visitor = Visitor {
            web: cast.web(),
            dns: SocketAddr::new(cast.nameservers()[0], cast.dns_port),
            ports: (cast.http_port, cast.https_port),
            roots: trust::roots(&[root.to_path_buf()]).unwrap(),
        };
        let (ends, rounds) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
        let counted = Arc::clone(&rounds);
        let (until, (ready, is_ready)) = (Arc::clone(&ends), std::sync::mpsc::channel());
        let thread = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
            runtime.block_on(async {
                let mut before: Vec<Seen> = Vec::new();
                for one in &asked {
                    before.push(visitor.ask(one).await);
                }
                ready.send(()).unwrap();
                let (mut rounds, mut worse) = (0, Vec::new());
                while !until.load(Ordering::Relaxed) {
                    for (one, before) in asked.iter().zip(&mut before) {
                        let now = visitor.ask(one).await;
                        if now.0 != before.0 || now.1 < before.1 {
                            worse.push(format!("{one:?}: {now:?} in place of {before:?}"));
                        }
                        // While a web server changes over, workers of both sides answer: a certificate is only older
                        // if it is older than the one of before.
                        if matches!(one, Asked::Records { .. }) {
                            before.1 = before.1.max(now.1);
                        }
                    }
                    rounds += 1;
                    counted.store(rounds, Ordering::Relaxed);
                    tokio::time::sleep(Duration::from_millis(5)).await;
                }
                (rounds, worse)
            })
        });
        is_ready.recv().unwrap();
        Self { ends, rounds, thread }
    }

    /// Ends it, and fails if anything got worse; or if it saw too little to say so.
    #[track_caller]
    pub fn found_nothing_worse(self, during: &str) {
        // A quick command on a busy machine leaves little time: what comes right after it counts as well.
        std::thread::sleep(Duration::from_millis(50));
        let patience = Instant::now();
        while self.rounds.load(Ordering::Relaxed) < 3 && patience.elapsed() < Duration::from_secs(5) {
            std::thread::sleep(Duration::from_millis(10));
        }
        self.ends.store(true, Ordering::Relaxed);
        let (rounds, worse) = self.thread.join().unwrap();
        assert!(worse.is_empty(), "{during}: {} worse answers, the first: {:?}", worse.len(), &worse[..1]);
        assert!(rounds >= 3, "{during}: the monitor has asked {rounds} times");
    }
}

struct Visitor {
    web: std::net::IpAddr,
    dns: SocketAddr,
    ports: (u16, u16),
    roots: Roots,
}

impl Visitor {
    async fn ask(&self, asked: &Asked) -> Seen {
        match asked {
            Asked::Page { host, https: false } => (self.page(host, false).await, 0),
            Asked::Page { host, https: true } => {
                let name = Host::parse(host).unwrap();
                let at = SocketAddr::new(self.web, self.ports.1);
                let seen = shake_hands(at, &name, Arc::clone(&self.roots)).await;
                let (trusted, until) = match seen.outcome {
                    TlsOutcome::Shown { verified, not_after, .. } => (format!("{verified:?}"), not_after.as_second()),
                    other => (format!("{other:?}"), 0),
                };
                (format!("{trusted} {}", self.page(host, true).await), until)
            }
            Asked::Records { zone, name, record_type } => {
                let (mut records, _) = self.records(name, *record_type).await;
                records.sort();
                (records.join(" "), self.records(zone, RecordType::SOA).await.1)
            }
        }
    }

    async fn page(&self, host: &str, https: bool) -> String {
        let port = if https { self.ports.1 } else { self.ports.0 };
        let tls = https.then(|| trust::client(Arc::clone(&self.roots)));
        let at = SocketAddr::new(self.web, port);
        let answer = match Connection::open(at, host, &format!("{host}:{port}"), tls).await {
            Ok(mut connection) => connection.send("GET", "/", &[], vec![], 100_000).await,
            Err(error) => Err(error),
        };
        match answer {
            Ok(answer) => {
                let header = |name: &str| answer.header(name).unwrap_or_default();
                let (location, hsts) = (header("location"), header("strict-transport-security"));
                format!("{} {location} {hsts} {}", answer.status, String::from_utf8_lossy(&answer.body))
            }
            Err(error) => error.to_string(),
        }
    }

    async fn records(&self, name: &str, record_type: RecordType) -> (Vec<String>, i64) {
        let question = Question::authoritative(self.dns, &DnsName::absolute(name).unwrap(), record_type);
        let outcome = ask(&question).await.outcome;
        let Outcome::Reply(reply) = outcome else { return (vec![format!("{outcome:?}")], 0) };
        let serial = reply.answer.iter().find_map(|record| match &record.data {
            RecordData::Soa(soa) => Some(i64::from(soa.serial)),
            _ => None,
        });
        (reply.answer.iter().map(|record| record.data.to_string()).collect(), serial.unwrap_or_default())
    }
}
