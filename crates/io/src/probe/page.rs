//! Fetches pages from chosen addresses: the fingerprint of a site, and the way a visitor is sent along.

use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use brightharbor_core::name::{DnsName, Host};
use brightharbor_core::redirect::{FollowStep, Landing, PageSeen, Shows, follow};
use brightharbor_core::render::{FINGERPRINT_PATH, PROOF_PATH};
use brightharbor_core::survey::{HttpOutcome, HttpSeen};
use rustls::ClientConfig;
use tokio::time::timeout;
use url::Url;

use crate::dns::resolve_all;
use crate::http::{Answer, Connection, HttpError, connect};

/// A page is looked at, not kept.
const MOST_BYTES: usize = 512 * 1024;
/// For one page, from the connection to its last byte: a server that drips is given up, however often it drips.
const PAGE_TIME: Duration = Duration::from_secs(8);
/// For a way from page to page.
const WAY_TIME: Duration = Duration::from_secs(15);

/// Asks one address for the site's fingerprint over plain http.
pub async fn fetch_fingerprint(address: SocketAddr, hostname: &Host) -> HttpSeen {
    let named = authority(hostname.as_str(), address.port(), 80);
    let asking = async {
        match Connection::open(address, hostname.as_str(), &named, None).await {
            Err(HttpError::NoRoute) => HttpOutcome::NoRoute,
            Err(error) => HttpOutcome::Closed(error.to_string()),
            Ok(mut connection) => match fetch(&mut connection, FINGERPRINT_PATH).await {
                Ok(answer) => {
                    let body: String = String::from_utf8_lossy(&answer.body).chars().take(200).collect();
                    HttpOutcome::Answer { status: answer.status, body }
                }
                Err(error) => HttpOutcome::Failed(error.to_string()),
            },
        }
    };
    let late = || HttpOutcome::Failed(HttpError::Late(PAGE_TIME.as_secs()).to_string());
    let outcome = timeout(PAGE_TIME, asking).await.unwrap_or_else(|_| late());
    HttpSeen { address, outcome }
}

/// Whether anybody takes connections at an address.
pub async fn takes_connections(address: SocketAddr) -> bool {
    connect(address).await.is_ok()
}

/// Whether an address shows a proof for the CA as it is (RFC 8555 section 8.3).
pub async fn fetch_proof(address: SocketAddr, hostname: &Host, token: &str, expected: &str) -> Result<(), String> {
    fetch_text(address, hostname, &format!("{PROOF_PATH}{token}"), expected).await
}

/// Whether an address shows a text at a path, but for blanks at its end.
pub async fn fetch_text(address: SocketAddr, hostname: &Host, path: &str, expected: &str) -> Result<(), String> {
    let named = authority(hostname.as_str(), address.port(), 80);
    match get(address, hostname.as_str(), &named, path, None).await {
        Ok(answer) if answer.status != 200 => Err(format!("{address} answered {} for {hostname}", answer.status)),
        Ok(answer) if answer.body.trim_ascii_end() == expected.as_bytes().trim_ascii_end() => Ok(()),
        Ok(_) => Err(format!("{address} answered something else for {hostname}")),
        // An address of a family that this host lacks says nothing.
        Err(HttpError::NoRoute) => Ok(()),
        Err(error) => Err(format!("{address}: {error}")),
    }
}

/// Follows redirects from `start`. `known` tells where hostnames lead; others are looked up with the resolvers.
pub async fn land(
    start: &Url,
    mut known: HashMap<String, Vec<IpAddr>>,
    resolvers: &[SocketAddr],
    default_ports: (u16, u16),
    tls: &Arc<ClientConfig>,
) -> Landing {
    let mut seen: HashMap<Url, PageSeen> = HashMap::new();
    let mut last = None;
    let until = Instant::now() + WAY_TIME;
    loop {
        let url = match follow(start, &seen) {
            FollowStep::Ended(landing) => return Landing { shows: last, ..landing },
            FollowStep::Fetch(url) => url,
        };
        let host = url.host_str().unwrap_or_default().to_string();
        if let Entry::Vacant(unknown) = known.entry(host) {
            let addresses = look_up(unknown.key(), resolvers).await;
            unknown.insert(addresses);
        }
        let left = until.saturating_duration_since(Instant::now());
        let fetching = fetch_page(&url, &known, default_ports, tls);
        let late = |_| (PageSeen::Failed { reason: HttpError::Late(WAY_TIME.as_secs()).to_string() }, None);
        let (page, shows) = timeout(left, fetching).await.unwrap_or_else(late);
        last = shows;
        seen.insert(url, page);
    }
}

async fn look_up(host: &str, resolvers: &[SocketAddr]) -> Vec<IpAddr> {
    let Ok(name) = DnsName::absolute(host) else { return vec![] };
    let resolved = resolve_all(&resolvers[..resolvers.len().min(1)], &name).await;
    resolved.iter().flat_map(|resolved| resolved.addresses.iter().map(|address| address.address)).take(4).collect()
}

async fn fetch_page(
    url: &Url,
    addresses: &HashMap<String, Vec<IpAddr>>,
    (http_port, https_port): (u16, u16),
    tls: &Arc<ClientConfig>,
) -> (PageSeen, Option<Shows>) {
    let failed = |reason: String| (PageSeen::Failed { reason }, None);
    let Some(host) = url.host_str() else { return failed("has no host".into()) };
    let secure = url.scheme() == "https";
    let port = url.port().unwrap_or(if secure { https_port } else { http_port });
    let known = addresses.get(host).cloned().unwrap_or_default();
    if known.is_empty() {
        return failed("leads to a name that does not resolve".into());
    }
    let path = match url.query() {
        Some(query) => format!("{}?{query}", url.path()),
        None => url.path().to_string(),
    };
    let mut last = HttpError::NoRoute;
    for address in known {
        let config = secure.then(|| Arc::clone(tls));
        let named = authority(host, port, if secure { 443 } else { 80 });
        match get(SocketAddr::new(address, port), host, &named, &path, config).await {
            Ok(answer) => {
                let shows = Shows::of(answer.status, &answer.body);
                return (PageSeen::Answer { status: answer.status, location: answer.header("location") }, shows);
            }
            Err(HttpError::NoRoute) => {}
            Err(error) => last = error,
        }
    }
    failed(last.to_string())
}

pub(super) fn authority(host: &str, port: u16, usual: u16) -> String {
    if port == usual { host.to_string() } else { format!("{host}:{port}") }
}

pub(super) async fn get(
    address: SocketAddr,
    host: &str,
    authority: &str,
    path: &str,
    tls: Option<Arc<ClientConfig>>,
) -> Result<Answer, HttpError> {
    let asking = async { fetch(&mut Connection::open(address, host, authority, tls).await?, path).await };
    timeout(PAGE_TIME, asking).await.unwrap_or(Err(HttpError::Late(PAGE_TIME.as_secs())))
}

async fn fetch(connection: &mut Connection, path: &str) -> Result<Answer, HttpError> {
    connection.send("GET", path, &[("accept", "*/*"), ("connection", "close")], Vec::new(), MOST_BYTES).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Read, Write};

    #[tokio::test]
    async fn a_server_that_drips_is_given_up_however_often_it_drips() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                std::thread::spawn(move || {
                    let mut stream = stream;
                    let _ = stream.read(&mut [0; 2048]);
                    let _ = stream.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 1000\r\n\r\n");
                    while stream.write_all(b"x").is_ok() {
                        std::thread::sleep(Duration::from_millis(200));
                    }
                });
            }
        });
        let host = Host::parse("gullrock.example").unwrap();
        let start: Url = format!("http://gullrock.example:{}/", address.port()).parse().unwrap();
        let known = HashMap::from([("gullrock.example".to_string(), vec![address.ip()])]);
        let client = crate::trust::client(Arc::new(rustls::RootCertStore::empty()));
        let begun = Instant::now();
        let way = land(&start, known, &[], (80, 443), &client);
        let (seen, landing) = futures_util::future::join(fetch_fingerprint(address, &host), way).await;
        assert!(begun.elapsed() < PAGE_TIME + Duration::from_secs(2), "{:?}", begun.elapsed());
        let late = "did not come to an end within 8 seconds";
        assert!(matches!(&seen.outcome, HttpOutcome::Failed(reason) if reason.contains(late)), "{seen:?}");
        assert!(format!("{landing:?}").contains(late), "{landing:?}");
    }
}
