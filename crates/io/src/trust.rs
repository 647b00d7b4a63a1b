//! The roots that certificates are verified with: files from the settings, or the system's store.

use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use brightharbor_core::certificate::{CertificateFacts, Distrust, has_signed, read_der};
use brightharbor_core::name::Host;
use jiff::Timestamp;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::ServerCertVerifier;
use rustls::crypto::CryptoProvider;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{ClientConfig, RootCertStore};

use crate::tls_words::{certificate_words, pem_words, tls_words};

/// The roots that certificates are verified with.
pub type Roots = Arc<RootCertStore>;

#[derive(Debug, thiserror::Error)]
pub enum TrustError {
    #[error("the trust root {path} cannot be read: {reason}")]
    File { path: PathBuf, reason: String },
    #[error("no trust roots were found on this system; name some as `trust-roots` under [internet] in harbor.toml")]
    None,
}

/// The roots in the files, or the system's where there are none. Those are many, and every look at a hostname needs
/// them: they are read once.
pub fn roots(files: &[PathBuf]) -> Result<Roots, TrustError> {
    static OF_SYSTEM: OnceLock<Roots> = OnceLock::new();
    match OF_SYSTEM.get().filter(|_| files.is_empty()) {
        Some(roots) => Ok(Arc::clone(roots)),
        None => {
            let roots = read_roots(files)?;
            Ok(if files.is_empty() { Arc::clone(OF_SYSTEM.get_or_init(|| roots)) } else { roots })
        }
    }
}

fn read_roots(files: &[PathBuf]) -> Result<Roots, TrustError> {
    let mut store = RootCertStore::empty();
    if files.is_empty() {
        for certificate in rustls_native_certs::load_native_certs().certs {
            let _ = store.add(certificate);
        }
    }
    for path in files {
        for certificate in read_file(path)? {
            let reason = |error: rustls::Error| tls_words(&error);
            store
                .add(certificate)
                .map_err(|error| TrustError::File { path: path.to_path_buf(), reason: reason(error) })?;
        }
    }
    if store.is_empty() { Err(TrustError::None) } else { Ok(Arc::new(store)) }
}

fn read_file(path: &Path) -> Result<Vec<CertificateDer<'static>>, TrustError> {
    let failed = |reason: String| TrustError::File { path: path.to_path_buf(), reason };
    let certificates = CertificateDer::pem_file_iter(path).map_err(|error| failed(pem_words(&error)))?;
    let certificates: Vec<_> = certificates.collect::<Result<_, _>>().map_err(|error| failed(pem_words(&error)))?;
    if certificates.is_empty() { Err(failed("no certificate in it".into())) } else { Ok(certificates) }
}

/// The root that has signed a certificate, among those in the files or the system's: servers do not send roots.
pub fn root_of(files: &[PathBuf], certificate: &CertificateFacts) -> Option<CertificateFacts> {
    static OF_SYSTEM: OnceLock<Vec<CertificateFacts>> = OnceLock::new();
    let read = |all: Vec<CertificateDer<'_>>| all.iter().filter_map(|der| read_der(der).ok()).collect::<Vec<_>>();
    let signed = |all: &[CertificateFacts]| {
        let named = all.iter().filter(|root| root.subject == certificate.issuer);
        named.into_iter().find(|root| has_signed(root, certificate)).cloned()
    };
    match files {
        [] => signed(OF_SYSTEM.get_or_init(|| read(rustls_native_certs::load_native_certs().certs))),
        _ => files.iter().find_map(|path| signed(&read(read_file(path).ok()?))),
    }
}

/// Whether a chain, leaf first, DER, would be trusted at a moment for a hostname.
pub fn judge(chain: &[&[u8]], hostname: &Host, roots: &Roots, now: Timestamp) -> Result<(), Distrust> {
    let other = |reason: String| Distrust::Other(reason);
    let verifier = WebPkiServerVerifier::builder_with_provider(Arc::clone(roots), provider());
    let verifier = verifier.build().map_err(|error| other(error.to_string()))?;
    let name =
        ServerName::try_from(hostname.as_str().trim_matches(['[', ']'])).map_err(|error| other(error.to_string()))?;
    let mut certificates = chain.iter().map(|der| CertificateDer::from(*der));
    let leaf = certificates.next().ok_or_else(|| other("there is no certificate".into()))?;
    let issuers: Vec<CertificateDer<'_>> = certificates.collect();
    let now = UnixTime::since_unix_epoch(Duration::from_secs(u64::try_from(now.as_second()).unwrap_or_default()));
    let verdict = verifier.verify_server_cert(&leaf, &issuers, &name, &[], now);
    verdict.map(|_| ()).map_err(|error| distrust(&error))
}

/// The same of a chain in PEM.
pub fn judge_pem(chain_pem: &str, hostname: &Host, roots: &Roots, now: Timestamp) -> Result<(), Distrust> {
    let read = brightharbor_core::certificate::read_chain(chain_pem.as_bytes());
    let read = read.map_err(|error| Distrust::Other(error.to_string()))?;
    let chain: Vec<&[u8]> = read.iter().map(|facts| &facts.der[..]).collect();
    judge(&chain, hostname, roots, now)
}

pub(crate) fn distrust(error: &rustls::Error) -> Distrust {
    use rustls::CertificateError as Wrong;
    match error {
        rustls::Error::InvalidCertificate(Wrong::UnknownIssuer) => Distrust::UnknownIssuer,
        rustls::Error::InvalidCertificate(Wrong::NotValidForName | Wrong::NotValidForNameContext { .. }) => {
            Distrust::Name
        }
        rustls::Error::InvalidCertificate(Wrong::Expired | Wrong::ExpiredContext { .. }) => Distrust::Expired,
        rustls::Error::InvalidCertificate(Wrong::NotValidYet | Wrong::NotValidYetContext { .. }) => Distrust::NotYet,
        rustls::Error::InvalidCertificate(wrong) => Distrust::Other(certificate_words(wrong)),
        other => Distrust::Other(tls_words(other)),
    }
}

/// The cryptography that all TLS here uses.
pub fn provider() -> Arc<CryptoProvider> {
    Arc::new(rustls::crypto::aws_lc_rs::default_provider())
}

/// A verifying client for https.
pub fn client(roots: Arc<RootCertStore>) -> Arc<ClientConfig> {
    let builder = ClientConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .expect("the provider knows TLS 1.2 and 1.3");
    Arc::new(builder.with_root_certificates(roots).with_no_client_auth())
}
