//! A verifier that takes down what a server shows and goes on with the handshake, so that a bad certificate can be described:
//! the chain, the verdict of the real verifier, the stapled answer, and whether a certificate is asked for in return.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};

use brightharbor_core::certificate::{Distrust, read_der};
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{ResolvesClientCert, WebPkiServerVerifier};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::sign::CertifiedKey;
use rustls::{ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme, SupportedProtocolVersion};

use super::served::MOST_CERTIFICATES;
use crate::http::HttpError;
use crate::trust::{distrust, provider};

/// The schemes that an RSA key signs by (RFC 8446 section 4.2.3).
const RSA: [SignatureScheme; 7] = [
    SignatureScheme::RSA_PKCS1_SHA1,
    SignatureScheme::RSA_PKCS1_SHA256,
    SignatureScheme::RSA_PKCS1_SHA384,
    SignatureScheme::RSA_PKCS1_SHA512,
    SignatureScheme::RSA_PSS_SHA256,
    SignatureScheme::RSA_PSS_SHA384,
    SignatureScheme::RSA_PSS_SHA512,
];

/// Takes the verdict of the real verifier down and lets the handshake go on. The handshake's own signature is checked for
/// real: a server that does not hold the key never gets past it.
#[derive(Debug)]
pub(super) struct Witness {
    verifier: Arc<WebPkiServerVerifier>,
    verdict: Mutex<Option<Result<(), Distrust>>>,
    staple: Mutex<Vec<u8>>,
    /// What was shown, DER, the leaf first; also where the handshake does not come to its end.
    shown: Mutex<Vec<Vec<u8>>>,
    asks_for_client: AtomicBool,
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
    /// The same, of this kind alone: a server may have a certificate of each.
    Rsa,
    Ecdsa,
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
    let witness = Arc::new(Witness {
        verifier,
        verdict: Mutex::new(None),
        staple: Mutex::default(),
        shown: Mutex::default(),
        asks_for_client: AtomicBool::new(false),
        keys,
    });
    let config = ClientConfig::builder_with_provider(provider())
        .with_protocol_versions(versions)
        .map_err(|error| failed(error.to_string()))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::clone(&witness) as Arc<dyn ServerCertVerifier>)
        .with_client_cert_resolver(Arc::clone(&witness) as Arc<dyn ResolvesClientCert>);
    Ok((config, witness))
}

/// The verdict of the real verifier on a chain that was seen without a handshake.
pub(super) fn verdict_on(
    shown: &[Vec<u8>],
    host: &str,
    staple: &[u8],
    roots: &Arc<RootCertStore>,
) -> Result<(), Distrust> {
    let other = |reason: String| Distrust::Other(reason);
    let name = ServerName::try_from(host.trim_matches(['[', ']'])).map_err(|error| other(error.to_string()))?;
    let verifier = WebPkiServerVerifier::builder_with_provider(Arc::clone(roots), provider())
        .build()
        .map_err(|error| other(error.to_string()))?;
    let chain: Vec<CertificateDer<'_>> = shown.iter().map(|der| CertificateDer::from(der.as_slice())).collect();
    let (leaf, above) = chain.split_first().ok_or_else(|| other("nothing was shown".into()))?;
    let verdict = verifier.verify_server_cert(leaf, above, &name, staple, UnixTime::now());
    verdict.map(|_| ()).map_err(|error| distrust(&error))
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
    /// What was shown.
    pub(super) fn shown(&self) -> Vec<Vec<u8>> {
        self.shown.lock().map(|shown| shown.clone()).unwrap_or_default()
    }

    /// Whether the server wants a certificate of the visitor.
    pub(super) fn asks_for_client(&self) -> bool {
        self.asks_for_client.load(Ordering::Relaxed)
    }

    fn unless_weak(
        &self,
        certificate: &CertificateDer<'_>,
        checked: Result<HandshakeSignatureValid, rustls::Error>,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let weak = || read_der(certificate).is_ok_and(|facts| facts.weakness().is_some());
        match checked {
            Err(_) if self.keys != Keys::Strong && weak() => Ok(HandshakeSignatureValid::assertion()),
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
        if let Ok(mut shown) = self.shown.lock() {
            let all = std::iter::once(end_entity).chain(intermediates).take(MOST_CERTIFICATES);
            *shown = all.map(|der| der.to_vec()).collect();
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
        let mut schemes = self.verifier.supported_verify_schemes();
        let is_rsa = |scheme: &SignatureScheme| RSA.contains(scheme);
        match self.keys {
            Keys::Strong | Keys::WeakToo => {}
            Keys::Rsa => schemes.retain(is_rsa),
            Keys::Ecdsa => schemes.retain(|scheme| !is_rsa(scheme)),
        }
        schemes
    }
}

impl ResolvesClientCert for Witness {
    /// Asked by a server that wants one; there is none.
    fn resolve(&self, _: &[&[u8]], _: &[SignatureScheme]) -> Option<Arc<CertifiedKey>> {
        self.asks_for_client.store(true, Ordering::Relaxed);
        None
    }

    fn has_certs(&self) -> bool {
        false
    }
}
