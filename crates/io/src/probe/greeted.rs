//! Greetings made by hand, for what a TLS library of today does not offer: old versions, old cipher suites, and the chain of a
//! server that takes nothing else. Nothing is computed with keys: each ends where the client would have its turn. Handshakes
//! of today are in `served.rs`.

use std::sync::Arc;

use aws_lc_rs::rand;
use brightharbor_core::certificate::{
    Flight, FlightRead, Greeting, Served, SuiteFamily, SuiteKey, TlsVersion, USUAL, accepts, client_hello, greeting,
    read_der, read_flight, suites, taken_by_browsers,
};
use futures_util::future::join_all;
use rustls::RootCertStore;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::time::timeout;

use super::revocation::judge_staple;
use super::served::{Entrance, HANDSHAKE_TIME, MOST_CERTIFICATES, names_of};
use super::witness::verdict_on;

/// Enough of an answer to see version and cipher suite.
const MOST_GREETING: usize = 512;
/// Enough for a chain that a server may show.
const MOST_FLIGHT: usize = 64 * 1024;

/// The versions below TLS 1.2 that the server takes, the oldest first.
pub(super) async fn old_versions(entrance: Entrance<'_>) -> Vec<TlsVersion> {
    let answers = join_all(TlsVersion::OLD.map(|version| greeted(entrance, version, USUAL))).await;
    let answers = answers.into_iter().zip(TlsVersion::OLD);
    answers.filter(|(answer, version)| accepts(*answer, *version)).map(|(_, version)| version).collect()
}

/// The families of suites that the server takes with TLS 1.2 or older, the best first; and whether one with TLS 1.2. What
/// hardly any server has is asked for together, and apart only where something of it is taken.
pub(super) async fn families(entrance: Entrance<'_>) -> (Vec<SuiteFamily>, bool) {
    let (usual, rare): (Vec<_>, Vec<_>) = SuiteFamily::ALL.into_iter().partition(|family| family.is_usual());
    let asked = |family: SuiteFamily| async move { (family, taken(entrance, &[family]).await) };
    let (mut answers, any) = tokio::join!(join_all(usual.into_iter().map(asked)), taken(entrance, &rare));
    if any.is_some() {
        answers.extend(join_all(rare.into_iter().map(asked)).await);
    }
    let tls12 = answers.iter().any(|(_, minor)| *minor == Some(TlsVersion::Tls12.minor()));
    (answers.into_iter().filter(|(_, minor)| minor.is_some()).map(|(family, _)| family).collect(), tls12)
}

/// The minor number of the version by which one of these families is taken.
async fn taken(entrance: Entrance<'_>, families: &[SuiteFamily]) -> Option<u8> {
    match greeted(entrance, TlsVersion::Tls12, &suites(families, SuiteKey::Any)).await {
        Greeting::Accepted { minor, cipher } => {
            SuiteFamily::of(cipher).is_some_and(|family| families.contains(&family)).then_some(minor)
        }
        _ => None,
    }
}

/// Sees what a server shows that takes no handshake of today. It has failed all the same where browsers get no further.
pub(super) async fn by_hand(served: &mut Served, key: SuiteKey, roots: &Arc<RootCertStore>) {
    let Some(flight) = flight(Entrance::of(served), served.host.as_str(), key).await else { return };
    let shown = &flight.chain[..flight.chain.len().min(MOST_CERTIFICATES)];
    let chain: Result<Vec<_>, _> = shown.iter().map(|der| read_der(der)).collect();
    let Ok(chain) = chain else { return };
    if chain.is_empty() {
        return;
    }
    served.verified = verdict_on(shown, &served.host, flight.staple.as_deref().unwrap_or_default(), roots);
    served.staple = flight.staple.as_ref().map(|answer| judge_staple(answer, &chain, served.seen_at));
    (served.chain, served.by_hand, served.asks_for_client) = (chain, true, flight.asks_for_client);
    let newest = TlsVersion::OLD.into_iter().chain([TlsVersion::Tls12]).find(|version| version.minor() == flight.minor);
    served.failed = match newest {
        // The best of them a library of today offers, too: it came to no end for another reason.
        Some(TlsVersion::Tls12) if taken_by_browsers(flight.cipher) => match SuiteFamily::of(flight.cipher) {
            Some(SuiteFamily::Authenticated) => served.failed.take(),
            _ => None,
        },
        Some(TlsVersion::Tls12) => {
            let family = SuiteFamily::of(flight.cipher).map_or("suites of its own", SuiteFamily::words);
            Some(format!("it takes no cipher suite that browsers take; it chose one with {family}"))
        }
        Some(older) => Some(format!("it speaks {} at most", older.words())),
        None => served.failed.take(),
    };
}

/// The names of what is shown to who asks for no name by such a greeting; `None` if the server refuses that.
pub(super) async fn names_without_asking(entrance: Entrance<'_>) -> Option<Vec<String>> {
    flight(entrance, "", SuiteKey::Any).await.map(|flight| names_of(&flight.chain))
}

async fn flight(entrance: Entrance<'_>, asked_name: &str, key: SuiteKey) -> Option<Flight> {
    let hello = hello(TlsVersion::Tls12, &suites(&SuiteFamily::ALL, key), asked_name)?;
    let read = |bytes: &[u8]| match read_flight(bytes) {
        FlightRead::Incomplete if bytes.len() < MOST_FLIGHT => None,
        FlightRead::Done(flight) => Some(Some(flight)),
        FlightRead::Incomplete | FlightRead::Nothing => Some(None),
    };
    timeout(HANDSHAKE_TIME, exchange(entrance, &hello, read)).await.ok()??
}

/// The greeting, and the beginning of the answer to it.
async fn greeted(entrance: Entrance<'_>, version: TlsVersion, ciphers: &[u16]) -> Greeting {
    let Some(hello) = hello(version, ciphers, entrance.host) else { return Greeting::Other };
    let read = |bytes: &[u8]| match greeting(bytes) {
        Greeting::Incomplete if bytes.len() < MOST_GREETING => None,
        seen => Some(seen),
    };
    let answer = timeout(HANDSHAKE_TIME, exchange(entrance, &hello, read)).await;
    answer.unwrap_or(Some(Greeting::Other)).unwrap_or(Greeting::Refused)
}

fn hello(version: TlsVersion, ciphers: &[u16], host: &str) -> Option<Vec<u8>> {
    let mut random = [0; 32];
    rand::fill(&mut random).ok()?;
    Some(client_hello(version, ciphers, host, random))
}

/// Says `hello` and reads until enough has come to tell; `None` if the connection ends before.
async fn exchange<T>(entrance: Entrance<'_>, hello: &[u8], read: impl Fn(&[u8]) -> Option<T>) -> Option<T> {
    let mut stream = entrance.connect().await.ok()?;
    stream.write_all(hello).await.ok()?;
    let (mut answer, mut part) = (Vec::new(), [0; 4_096]);
    loop {
        if let Some(told) = read(&answer) {
            return Some(told);
        }
        match stream.read(&mut part).await {
            Ok(0) | Err(_) => return None,
            Ok(count) => answer.extend_from_slice(&part[..count]),
        }
    }
}
