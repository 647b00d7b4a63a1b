//! Whether an address shows a proof over TLS, as a CA looks at it (RFC 8737 section 3).

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use brightharbor_core::acme::{PROTOCOL, asked_name, proves};
use brightharbor_core::certificate::read_der;
use brightharbor_core::name::Host;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::verify_tls13_signature_with_raw_key;
use rustls::pki_types::{CertificateDer, ServerName, SubjectPublicKeyInfoDer, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, SignatureScheme};
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use crate::http::{HttpError, connect};
use crate::tls_words::handshake_words;
use crate::trust::provider;

const HANDSHAKE_TIME: Duration = Duration::from_secs(8);

/// Asks one address; the error says what it shows instead.
pub async fn fetch_tls_proof(address: SocketAddr, name: &Host, content: &str) -> Result<(), String> {
    let leaf = match shake(address, name).await {
        Ok(leaf) => leaf,
        // An address of a family that this host lacks says nothing.
        Err(HttpError::NoRoute) => return Ok(()),
        Err(error) => return Err(format!("{address}: {error}")),
    };
    proves(&leaf, name, content).map_err(|reason| format!("{address}: {reason}"))
}

async fn shake(address: SocketAddr, name: &Host) -> Result<CertificateDer<'static>, HttpError> {
    let failed = |error: String| HttpError::Tls(error);
    let mut config = ClientConfig::builder_with_provider(provider())
        .with_protocol_versions(&[&rustls::version::TLS13])
        .map_err(|error| failed(error.to_string()))?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(KeyHolder))
        .with_no_client_auth();
    config.alpn_protocols = vec![PROTOCOL.to_vec()];
    let asked = ServerName::try_from(asked_name(name)).map_err(|error| HttpError::Request(error.to_string()))?;
    let stream = connect(address).await?;
    let stream = timeout(HANDSHAKE_TIME, TlsConnector::from(Arc::new(config)).connect(asked, stream))
        .await
        .map_err(|_| HttpError::Silent)?
        .map_err(|error| failed(handshake_words(&error)))?;
    let (_, session) = stream.get_ref();
    if session.alpn_protocol() != Some(PROTOCOL) {
        return Err(failed("a server answered that does not speak acme-tls/1".into()));
    }
    let leaf = session.peer_certificates().and_then(|chain| chain.first());
    leaf.map(|leaf| leaf.clone().into_owned()).ok_or_else(|| failed("no certificate was shown".into()))
}

/// Whoever it is: what the certificate says is judged afterwards. That the server holds its key is checked for real.
#[derive(Debug)]
struct KeyHolder;

impl ServerCertVerifier for KeyHolder {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        Err(Error::General("only TLS 1.3 was offered".into()))
    }

    /// By the bare key: the usual way refuses a certificate with a critical extension that it does not know.
    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let facts = read_der(certificate).map_err(|_| Error::InvalidCertificate(CertificateError::BadEncoding))?;
        let key = SubjectPublicKeyInfoDer::from(facts.public_key);
        verify_tls13_signature_with_raw_key(message, &key, signature, &provider().signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        provider().signature_verification_algorithms.supported_schemes()
    }
}
