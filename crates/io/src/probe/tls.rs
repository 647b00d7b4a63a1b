//! A TLS handshake as a visitor makes it. Whatever the server shows is taken down first and judged afterwards, so
//! that a bad certificate can be described.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use brightharbor_core::certificate::{Distrust, RevocationStatus, read_der};
use brightharbor_core::name::Host;
use brightharbor_core::survey::{TlsOutcome, TlsSeen};
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme, SupportedProtocolVersion};
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use super::revocation::{RevocationLists, judge_staple};
use super::served::MOST_CERTIFICATES;
use crate::clock;
use crate::http::{HttpError, connect};
use crate::tls_words::handshake_words;
use crate::trust::{distrust, provider};

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

/// Takes the verdict of the real verifier down and lets the handshake go on. The handshake's own signature is checked for
/// real: a server that does not hold the key never gets past it.
#[derive(Debug)]
pub(super) struct Witness {
    verifier: Arc<WebPkiServerVerifier>,
    verdict: Mutex<Option<Result<(), Distrust>>>,
    staple: Mutex<Vec<u8>>,
    keys: Keys,
}

/// Whose handshakes are gone on with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Keys {
    /// Of keys that prove something.
    Strong,
    /// Of weak ones as well, whose signatures the library does not check: to see what such a server shows, which is a fault
    /// in any case.
    WeakToo,
}

/// A client that takes down the verdict on whatever is shown, speaking these versions.
pub(super) fn witnessing(
    roots: Arc<RootCertStore>,
    versions: &[&'static SupportedProtocolVersion],
    keys: Keys,
) -> Result<(ClientConfig, Arc<Witness>), HttpError> {
    let failed = |error: String| HttpError::Tls(error);
    let verifier = WebPkiServerVerifier::builder_with_provider(roots, provider())
        .build()
        .map_err(|error| failed(error.to_string()))?;
    let witness = Arc::new(Witness { verifier, verdict: Mutex::new(None), staple: Mutex::default(), keys });
    let config = ClientConfig::builder_with_provider(provider())
        .with_protocol_versions(versions)
        .map_err(|error| failed(error.to_string()))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::clone(&witness) as Arc<dyn ServerCertVerifier>)
        .with_no_client_auth();
    Ok((config, witness))
}

impl Witness {
    pub(super) fn verdict(&self) -> Result<(), Distrust> {
        let verdict = self.verdict.lock().map(|verdict| verdict.clone()).unwrap_or_default();
        verdict.unwrap_or_else(|| Err(Distrust::Other("no verdict".into())))
    }

    /// The answer about revocation that came along, DER.
    pub(super) fn staple(&self) -> Option<Vec<u8>> {
        self.staple.lock().ok().map(|staple| staple.clone()).filter(|staple| !staple.is_empty())
    }
}

impl Witness {
    fn unless_weak(
        &self,
        certificate: &CertificateDer<'_>,
        checked: Result<HandshakeSignatureValid, rustls::Error>,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let weak = || read_der(certificate).is_ok_and(|facts| facts.weakness().is_some());
        match checked {
            Err(_) if self.keys == Keys::WeakToo && weak() => Ok(HandshakeSignatureValid::assertion()),
            checked => checked,
        }
    }
}

impl ServerCertVerifier for Witness {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let verdict = self.verifier.verify_server_cert(end_entity, intermediates, server_name, ocsp, now);
        if let Ok(mut staple) = self.staple.lock() {
            *staple = ocsp.to_vec();
        }
        if let Ok(mut slot) = self.verdict.lock() {
            *slot = Some(verdict.map(|_| ()).map_err(|error| distrust(&error)));
        }
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.unless_weak(certificate, self.verifier.verify_tls12_signature(message, certificate, signature))
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.unless_weak(certificate, self.verifier.verify_tls13_signature(message, certificate, signature))
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.verifier.supported_verify_schemes()
    }
}
