//! Everything that a server shows over TLS: its chain and the verdict on it, the versions and cipher suites that it takes,
//! and what it says beside. Each handshake is bounded in time. What a library of today does not offer is greeted by hand, in
//! `greeted.rs`.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use brightharbor_core::certificate::{Served, StartTls, SuiteFamily, SuiteKey, TlsVersion, read_der};
use rustls::pki_types::ServerName;
use rustls::version::{TLS12, TLS13};
use rustls::{ClientConfig, RootCertStore};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use super::greeted::{by_hand, families, names_without_asking, old_versions};
use super::revocation::{RevocationLists, judge_staple};
use super::start_tls::begin;
use super::witness::{Keys, Witness, witnessing};
use crate::clock;
use crate::http::{Connection, HttpError, connect};
use crate::tls_words::handshake_words;

pub(super) const HANDSHAKE_TIME: Duration = Duration::from_secs(6);
/// What speaks no http, such as a mail server, says nothing to a request for a page.
const HEAD_TIME: Duration = Duration::from_secs(3);
const MOST_PAGE: usize = 64 * 1024;
/// A chain longer than this is cut off: it is told by what is there.
pub(super) const MOST_CERTIFICATES: usize = 20;

/// Where the handshakes go.
#[derive(Debug, Clone, Copy)]
pub(super) struct Entrance<'a> {
    address: SocketAddr,
    pub(super) host: &'a str,
    start_tls: Option<StartTls>,
}

impl<'a> Entrance<'a> {
    pub(super) fn of(served: &'a Served) -> Self {
        Self { address: served.address, host: &served.host, start_tls: served.start_tls }
    }

    pub(super) async fn connect(&self) -> Result<TcpStream, HttpError> {
        let mut stream = connect(self.address).await?;
        if let Some(protocol) = self.start_tls {
            begin(&mut stream, protocol).await?;
        }
        Ok(stream)
    }
}

/// Looks at one address for the host; by a protocol that changes to TLS, or by TLS at once. A server that has certificates
/// of two kinds of keys is there twice.
pub async fn look_at_served(
    address: SocketAddr,
    host: &str,
    start_tls: Option<StartTls>,
    roots: Arc<RootCertStore>,
    lists: &RevocationLists,
) -> Vec<Served> {
    let mut served = Served { start_tls, ..Served::unseen(host, address, clock::now()) };
    let entrance = Entrance { address, host, start_tls };
    if let Err(error) = modern(&mut served, Keys::WeakToo, &roots).await {
        served.failed = Some(error.to_string());
        if !matches!(error, HttpError::Tls(_)) {
            return vec![served];
        }
        if served.chain.is_empty() {
            by_hand(&mut served, SuiteKey::Any, &roots).await;
        }
    }
    let (old, (suites, suites12), tls12, tls13) = tokio::join!(
        old_versions(entrance),
        families(entrance),
        speaks(entrance, &roots, &TLS12),
        speaks(entrance, &roots, &TLS13),
    );
    served.suites = suites;
    served.versions = old;
    // What a library of today agrees on with TLS 1.2 is of the good family.
    if tls12 && !served.suites.contains(&SuiteFamily::Authenticated) {
        served.suites.insert(0, SuiteFamily::Authenticated);
    }
    let newer = [(tls12 || suites12, TlsVersion::Tls12), (tls13, TlsVersion::Tls13)];
    served.versions.extend(newer.iter().filter(|(spoken, _)| *spoken).map(|(_, version)| version));
    if served.failed.is_none() {
        served.revocation = lists.status_unless_stapled(served.staple.as_ref(), &served.chain).await;
        if served.asks_for_pages() {
            let bound = bound_to_https(&served, &roots).await;
            (served.speaks_http, served.hsts) = (bound.is_some(), bound.flatten());
        }
        served.without_name = match served.by_hand {
            true => names_without_asking(entrance).await,
            false => nameless(entrance, &roots).await,
        };
    }
    let other = by_other_key(&served, &roots, lists).await;
    std::iter::once(served).chain(other).collect()
}

fn name_of(host: &str) -> Result<ServerName<'static>, HttpError> {
    ServerName::try_from(host.trim_matches(['[', ']']).to_string())
        .map_err(|error| HttpError::Request(error.to_string()))
}

/// A handshake; `None` if the server ends it because the visitor has no certificate: it has shown its own before.
async fn shake(
    entrance: Entrance<'_>,
    (config, witness): (ClientConfig, &Witness),
) -> Result<Option<TlsStream<TcpStream>>, HttpError> {
    let stream = entrance.connect().await?;
    match timeout(HANDSHAKE_TIME, TlsConnector::from(Arc::new(config)).connect(name_of(entrance.host)?, stream)).await {
        Err(_) => Err(HttpError::Silent),
        Ok(Ok(stream)) => Ok(Some(stream)),
        Ok(Err(_)) if witness.asks_for_client() => Ok(None),
        Ok(Err(error)) => Err(HttpError::Tls(handshake_words(&error))),
    }
}

pub(super) fn names_of(shown: &[Vec<u8>]) -> Vec<String> {
    shown.first().and_then(|leaf| read_der(leaf).ok()).map(|facts| facts.names).unwrap_or_default()
}

/// A handshake of today, with what it shows.
async fn modern(served: &mut Served, keys: Keys, roots: &Arc<RootCertStore>) -> Result<(), HttpError> {
    let (mut config, witness) = witnessing(Arc::clone(roots), rustls::ALL_VERSIONS, keys)?;
    // What begins in the clear is no web server, and would have to refuse these (RFC 7301 section 3.2).
    if served.start_tls.is_none() {
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    }
    let entrance = Entrance::of(served);
    let shaken = shake(entrance, (config, &witness)).await;
    // What was shown is told where the handshake came to no end, too.
    let chain: Result<Vec<_>, String> = witness.shown().iter().map(|der| read_der(der)).collect();
    match (chain, &shaken) {
        (Ok(chain), _) => served.chain = chain,
        (Err(why), Ok(_)) => return Err(HttpError::Tls(why)),
        (Err(_), Err(_)) => {}
    }
    served.verified = witness.verdict();
    served.staple = witness.staple().map(|answer| judge_staple(&answer, &served.chain, served.seen_at));
    let stream = shaken?;
    let alpn = stream.as_ref().and_then(|stream| stream.get_ref().1.alpn_protocol());
    served.alpn = alpn.map(|name| String::from_utf8_lossy(name).into_owned());
    served.asks_for_client = witness.asks_for_client();
    Ok(())
}

/// What it shows to who knows keys of the other kind alone, if that is another certificate.
async fn by_other_key(served: &Served, roots: &Arc<RootCertStore>, lists: &RevocationLists) -> Option<Served> {
    let first = served.chain.first()?;
    let (keys, suites, asked) = match first.is_rsa() {
        true => (Keys::Ecdsa, SuiteKey::Ecdsa, "ECDSA"),
        false => (Keys::Rsa, SuiteKey::Rsa, "RSA"),
    };
    let mut other = Served { asked_for: Some(asked), chain: vec![], ..served.clone() };
    // A certificate may be shown to visitors of old alone.
    if (served.by_hand || modern(&mut other, keys, roots).await.is_err()) && other.chain.is_empty() {
        by_hand(&mut other, suites, roots).await;
    }
    if other.chain.first()?.der == first.der {
        return None;
    }
    other.revocation = lists.status_unless_stapled(other.staple.as_ref(), &other.chain).await;
    Some(other)
}

async fn speaks(
    entrance: Entrance<'_>,
    roots: &Arc<RootCertStore>,
    version: &'static rustls::SupportedProtocolVersion,
) -> bool {
    match witnessing(Arc::clone(roots), &[version], Keys::WeakToo) {
        Ok((config, witness)) => shake(entrance, (config, &witness)).await.is_ok(),
        Err(_) => false,
    }
}

/// What is shown to who asks for no name; `None` if the server refuses that.
async fn nameless(entrance: Entrance<'_>, roots: &Arc<RootCertStore>) -> Option<Vec<String>> {
    let (mut config, witness) = witnessing(Arc::clone(roots), rustls::ALL_VERSIONS, Keys::WeakToo).ok()?;
    config.enable_sni = false;
    shake(entrance, (config, &witness)).await.ok()?;
    Some(names_of(&witness.shown()))
}

/// For how long browsers are told to use https alone, if they are (RFC 6797 section 6.1); `None` where no http is spoken.
async fn bound_to_https(served: &Served, roots: &Arc<RootCertStore>) -> Option<Option<u64>> {
    let (config, _) = witnessing(Arc::clone(roots), rustls::ALL_VERSIONS, Keys::WeakToo).ok()?;
    let authority = match served.address.port() {
        443 => served.host.clone(),
        port => format!("{}:{port}", served.host),
    };
    let mut connection =
        Connection::open(served.address, &served.host, &authority, Some(Arc::new(config))).await.ok()?;
    let head = connection.send("HEAD", "/", &[("connection", "close")], vec![], MOST_PAGE);
    let answer = timeout(HEAD_TIME, head).await.ok()?.ok()?;
    let age = |part: &str| part.trim().to_ascii_lowercase().strip_prefix("max-age=")?.trim_matches('"').parse().ok();
    Some(answer.header("strict-transport-security").and_then(|field| field.split(';').find_map(age)))
}
