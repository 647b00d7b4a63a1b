//! A TLS handshake as a visitor makes it. Whatever the server shows is taken down first and judged afterwards, so
//! that a bad certificate can be described.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use brightharbor_core::certificate::{RevocationStatus, read_der};
use brightharbor_core::name::Host;
use brightharbor_core::survey::{TlsOutcome, TlsSeen};
use rustls::RootCertStore;
use rustls::pki_types::ServerName;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use super::revocation::{RevocationLists, judge_staple};
use super::served::MOST_CERTIFICATES;
use super::witness::{Keys, witnessing};
use crate::clock;
use crate::http::{HttpError, connect};
use crate::tls_words::handshake_words;

const HANDSHAKE_TIME: Duration = Duration::from_secs(8);

/// Shakes hands with one address for the hostname and verifies what it shows against the roots.
pub async fn shake_hands(address: SocketAddr, hostname: &Host, roots: Arc<RootCertStore>) -> TlsSeen {
    shake_hands_asking(address, hostname, roots, None).await
}

/// The same; whether what verifies is revoked is read from what came along, or its CA is asked by means of `lists`.
pub async fn shake_hands_asking(
    address: SocketAddr,
    hostname: &Host,
    roots: Arc<RootCertStore>,
    lists: Option<&RevocationLists>,
) -> TlsSeen {
    let outcome = match handshake(address, hostname, roots, lists).await {
        Ok(outcome) => outcome,
        Err(HttpError::NoRoute) => TlsOutcome::NoRoute,
        Err(error) => TlsOutcome::Failed(error.to_string()),
    };
    TlsSeen { address, outcome }
}

async fn handshake(
    address: SocketAddr,
    hostname: &Host,
    roots: Arc<RootCertStore>,
    lists: Option<&RevocationLists>,
) -> Result<TlsOutcome, HttpError> {
    let (config, witness) = witnessing(roots, rustls::ALL_VERSIONS, Keys::Strong)?;
    let stream = connect(address).await?;
    // An address is no name that could be sent along (RFC 6066 section 3).
    let name = match hostname.address() {
        Some(address) => ServerName::from(address),
        None => ServerName::try_from(hostname.as_str().to_string()).map_err(|e| HttpError::Request(e.to_string()))?,
    };
    let stream = timeout(HANDSHAKE_TIME, TlsConnector::from(Arc::new(config)).connect(name, stream))
        .await
        .map_err(|_| HttpError::Silent)?
        .map_err(|error| HttpError::Tls(handshake_words(&error)))?;
    let (_, session) = stream.get_ref();
    let chain = session.peer_certificates().unwrap_or_default();
    let leaf = chain.first().ok_or_else(|| HttpError::Tls("no certificate was shown".into()))?;
    let facts = read_der(leaf).map_err(HttpError::Tls)?;
    let protocol = match session.protocol_version() {
        Some(rustls::ProtocolVersion::TLSv1_3) => "TLS 1.3".to_string(),
        Some(rustls::ProtocolVersion::TLSv1_2) => "TLS 1.2".to_string(),
        other => format!("{other:?}"),
    };
    let verified = witness.verdict().map_err(|distrust| distrust.words());
    let revocation = match (lists, &verified) {
        (Some(lists), Ok(())) => {
            let chain: Result<Vec<_>, _> = chain.iter().take(MOST_CERTIFICATES).map(|der| read_der(der)).collect();
            let chain = chain.map_err(HttpError::Tls)?;
            let staple = witness.staple().map(|answer| judge_staple(&answer, &chain, clock::now()));
            lists.status_unless_stapled(staple.as_ref(), &chain).await
        }
        (Some(_), Err(_)) => RevocationStatus::NotAsked("it does not verify".into()),
        (None, _) => RevocationStatus::NotAsked("it was not looked for".into()),
    };
    Ok(TlsOutcome::Shown {
        protocol,
        verified,
        revocation,
        names: facts.names,
        not_before: facts.not_before,
        not_after: facts.not_after,
        sent: chain.len(),
    })
}
