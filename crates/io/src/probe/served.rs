//! Everything that a server shows over TLS: its chain and the verdict on it, the versions and weak ciphers that it takes,
//! and what it says beside. Each handshake is bounded in time; the old versions are greeted by hand.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use aws_lc_rs::rand;
use brightharbor_core::certificate::{
    Greeting, Served, StartTls, TlsVersion, USUAL, WEAK, accepts, client_hello, greeting, read_der,
};
use rustls::pki_types::ServerName;
use rustls::version::{TLS12, TLS13};
use rustls::{ClientConfig, RootCertStore};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use super::revocation::{RevocationLists, judge_staple};
use super::start_tls::begin;
use super::witness::{Keys, Witness, witnessing};
use crate::clock;
use crate::http::{Connection, HttpError, connect};
use crate::tls_words::handshake_words;

const HANDSHAKE_TIME: Duration = Duration::from_secs(6);
/// What speaks no http, such as a mail server, says nothing to a request for a page.
const HEAD_TIME: Duration = Duration::from_secs(3);
/// Enough of an answer to see version and cipher.
const MOST_GREETING: usize = 512;
const MOST_PAGE: usize = 64 * 1024;
/// A chain longer than this is cut off: it is told by what is there.
pub(super) const MOST_CERTIFICATES: usize = 20;

/// Where the handshakes go.
#[derive(Debug, Clone, Copy)]
struct Entrance<'a> {
    address: SocketAddr,
    host: &'a str,
    start_tls: Option<StartTls>,
}

impl Entrance<'_> {
    async fn connect(&self) -> Result<TcpStream, HttpError> {
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
        let unreachable = !matches!(error, HttpError::Tls(_));
        served.failed = Some(error.to_string());
        if unreachable {
            return vec![served];
        }
    }
    let old = TlsVersion::OLD.map(|version| greeted(entrance, version, USUAL));
    let weak: Vec<u16> = WEAK.iter().map(|(cipher, _)| *cipher).collect();
    let (old, weak, tls12, tls13) = tokio::join!(
        futures_util::future::join_all(old),
        greeted(entrance, TlsVersion::Tls12, &weak),
        speaks(entrance, &roots, &TLS12),
        speaks(entrance, &roots, &TLS13),
    );
    for (answer, version) in old.into_iter().zip(TlsVersion::OLD) {
        if accepts(answer, version) {
            served.versions.push(version);
        }
    }
    served
        .versions
        .extend([(tls12, TlsVersion::Tls12), (tls13, TlsVersion::Tls13)].iter().filter(|(it, _)| *it).map(|(_, v)| *v));
    if let Greeting::Accepted { cipher, .. } = weak {
        served.weak_cipher = WEAK.iter().find(|(number, _)| *number == cipher).map(|(_, words)| words.to_string());
    }
    if served.failed.is_none() {
        served.revocation = lists.status_unless_stapled(served.staple.as_ref(), &served.chain).await;
        if start_tls.is_none() {
            served.hsts = bound_to_https(&served, &roots).await;
        }
        served.without_name = nameless(entrance, &roots).await;
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

fn names_of(shown: &[Vec<u8>]) -> Vec<String> {
    shown.first().and_then(|leaf| read_der(leaf).ok()).map(|facts| facts.names).unwrap_or_default()
}

/// A handshake of today, with what it shows.
async fn modern(served: &mut Served, keys: Keys, roots: &Arc<RootCertStore>) -> Result<(), HttpError> {
    let (mut config, witness) = witnessing(Arc::clone(roots), rustls::ALL_VERSIONS, keys)?;
    // What begins in the clear is no web server, and would have to refuse these (RFC 7301 section 3.2).
    if served.start_tls.is_none() {
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    }
    let entrance = Entrance { address: served.address, host: &served.host, start_tls: served.start_tls };
    let stream = shake(entrance, (config, &witness)).await?;
    let chain: Result<Vec<_>, String> = witness.shown().iter().map(|der| read_der(der)).collect();
    served.chain = chain.map_err(HttpError::Tls)?;
    served.verified = witness.verdict();
    served.staple = witness.staple().map(|answer| judge_staple(&answer, &served.chain, served.seen_at));
    let alpn = stream.as_ref().and_then(|stream| stream.get_ref().1.alpn_protocol());
    served.alpn = alpn.map(|name| String::from_utf8_lossy(name).into_owned());
    served.asks_for_client = witness.asks_for_client();
    Ok(())
}

/// What it shows to who knows keys of the other kind alone, if that is another certificate.
async fn by_other_key(served: &Served, roots: &Arc<RootCertStore>, lists: &RevocationLists) -> Option<Served> {
    let first = served.chain.first()?;
    let (keys, asked) = match first.is_rsa() {
        true => (Keys::Ecdsa, "ECDSA"),
        false => (Keys::Rsa, "RSA"),
    };
    let mut other = Served { asked_for: Some(asked), ..served.clone() };
    modern(&mut other, keys, roots).await.ok()?;
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

/// The greeting by hand, and the beginning of the answer to it.
async fn greeted(entrance: Entrance<'_>, version: TlsVersion, ciphers: &[u16]) -> Greeting {
    let mut random = [0; 32];
    if rand::fill(&mut random).is_err() {
        return Greeting::Other;
    }
    let hello = client_hello(version, ciphers, entrance.host, random);
    timeout(HANDSHAKE_TIME, exchange(entrance, &hello)).await.unwrap_or(Greeting::Other)
}

async fn exchange(entrance: Entrance<'_>, hello: &[u8]) -> Greeting {
    let Ok(mut stream) = entrance.connect().await else { return Greeting::Other };
    if stream.write_all(hello).await.is_err() {
        return Greeting::Refused;
    }
    let mut answer = Vec::new();
    let mut part = [0; MOST_GREETING];
    loop {
        match greeting(&answer) {
            Greeting::Incomplete if answer.len() < MOST_GREETING => {}
            seen => return seen,
        }
        match stream.read(&mut part).await {
            Ok(0) | Err(_) => return Greeting::Refused,
            Ok(read) => answer.extend_from_slice(&part[..read]),
        }
    }
}

/// For how long browsers are told to use https alone (RFC 6797 section 6.1).
async fn bound_to_https(served: &Served, roots: &Arc<RootCertStore>) -> Option<u64> {
    let (config, _) = witnessing(Arc::clone(roots), rustls::ALL_VERSIONS, Keys::WeakToo).ok()?;
    let authority = match served.address.port() {
        443 => served.host.clone(),
        port => format!("{}:{port}", served.host),
    };
    let mut connection =
        Connection::open(served.address, &served.host, &authority, Some(Arc::new(config))).await.ok()?;
    let head = connection.send("HEAD", "/", &[("connection", "close")], vec![], MOST_PAGE);
    let answer = timeout(HEAD_TIME, head).await.ok()?.ok()?;
    let field = answer.header("strict-transport-security")?;
    field
        .split(';')
        .find_map(|part| part.trim().to_ascii_lowercase().strip_prefix("max-age=")?.trim_matches('"').parse().ok())
}
