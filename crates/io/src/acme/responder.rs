//! Shows proofs over TLS (RFC 8737) while orders need them: a listener of our own, at an address that connections for
//! `acme-tls/1` are passed to, since web servers have no words for them.
//!
//! It speaks that protocol alone, holds no key but those of the proofs, and is closed when the command ends.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, Instant};

use brightharbor_core::acme::{PROTOCOL, Proof, asked_name, proof_digest};
use rcgen::{CertificateParams, CustomExtension, DistinguishedName, KeyPair};
use rustls::ServerConfig;
use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::server::{ClientHello, ResolvesServerCert};
use rustls::sign::CertifiedKey;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpListener;
use tokio::sync::{OnceCell, Semaphore};
use tokio::task::JoinHandle;
use tokio_rustls::TlsAcceptor;

use crate::trust::provider;

/// Another command may still have the address.
const PATIENCE: Duration = Duration::from_secs(20);
/// A CA looks from a few places at once.
const MOST_CONNECTIONS: usize = 64;
const HANDSHAKE_TIME: Duration = Duration::from_secs(10);

type Shown = Arc<RwLock<HashMap<String, Arc<CertifiedKey>>>>;

/// The listener, opened for the first proof.
pub struct Responder {
    address: SocketAddr,
    shown: Shown,
    listening: OnceCell<Listening>,
}

struct Listening(JoinHandle<()>);

impl Drop for Listening {
    fn drop(&mut self) {
        self.0.abort();
    }
}

/// A proof that is shown until this is dropped.
pub(super) struct Showing {
    name: String,
    shown: Shown,
}

impl Drop for Showing {
    fn drop(&mut self) {
        self.shown.write().unwrap_or_else(PoisonError::into_inner).remove(&self.name);
    }
}

impl Responder {
    pub fn new(address: SocketAddr) -> Self {
        Self { address, shown: Shown::default(), listening: OnceCell::new() }
    }

    /// Shows a proof. The error says what is wrong with the address.
    pub(super) async fn show(&self, proof: &Proof) -> Result<Showing, String> {
        let key = proof_certificate(proof).map_err(|error| format!("its proof over TLS cannot be made: {error}"))?;
        self.listening.get_or_try_init(|| self.listen()).await?;
        let name = asked_name(&proof.identifier.name);
        self.shown.write().unwrap_or_else(PoisonError::into_inner).insert(name.clone(), Arc::new(key));
        Ok(Showing { name, shown: Arc::clone(&self.shown) })
    }

    async fn listen(&self) -> Result<Listening, String> {
        let deadline = Instant::now() + PATIENCE;
        let listener = loop {
            match TcpListener::bind(self.address).await {
                Ok(listener) => break listener,
                Err(error) if error.kind() == std::io::ErrorKind::AddrInUse && Instant::now() < deadline => {
                    tokio::time::sleep(Duration::from_millis(200)).await;
                }
                Err(error) => {
                    return Err(format!("no proof over TLS can be shown at {}: {error}", self.address));
                }
            }
        };
        let mut config = ServerConfig::builder_with_provider(provider())
            .with_safe_default_protocol_versions()
            .map_err(|error| error.to_string())?
            .with_no_client_auth()
            .with_cert_resolver(Arc::new(ByName(Arc::clone(&self.shown))));
        config.alpn_protocols = vec![PROTOCOL.to_vec()];
        Ok(Listening(tokio::spawn(answer(listener, TlsAcceptor::from(Arc::new(config))))))
    }
}

/// Shakes hands and hangs up (RFC 8737 section 3).
async fn answer(listener: TcpListener, acceptor: TlsAcceptor) {
    let connections = Arc::new(Semaphore::new(MOST_CONNECTIONS));
    loop {
        let Ok(permit) = Arc::clone(&connections).acquire_owned().await else { return };
        let Ok((stream, _)) = listener.accept().await else {
            // Out of file descriptors, say: that passes.
            tokio::time::sleep(Duration::from_millis(100)).await;
            continue;
        };
        let acceptor = acceptor.clone();
        tokio::spawn(async move {
            let _ = tokio::time::timeout(HANDSHAKE_TIME, async {
                let mut stream = acceptor.accept(stream).await?;
                stream.shutdown().await
            })
            .await;
            drop(permit);
        });
    }
}

#[derive(Debug)]
struct ByName(Shown);

impl ResolvesServerCert for ByName {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        // A client that says nothing of the protocol is lost here.
        if !hello.alpn()?.any(|protocol| protocol == PROTOCOL) {
            return None;
        }
        let name = hello.server_name()?.to_ascii_lowercase();
        self.0.read().ok()?.get(&name).cloned()
    }
}

fn proof_certificate(proof: &Proof) -> Result<CertifiedKey, String> {
    let name = &proof.identifier.name;
    let name = name.address().map_or_else(|| name.to_string(), |address| address.to_string());
    let words = |error: rcgen::Error| error.to_string();
    let key = KeyPair::generate().map_err(words)?;
    let mut params = CertificateParams::new(vec![name]).map_err(words)?;
    params.distinguished_name = DistinguishedName::new();
    params.custom_extensions = vec![CustomExtension::new_acme_identifier(&proof_digest(&proof.content))];
    let certificate = params.self_signed(&key).map_err(words)?;
    let private = PrivateKeyDer::from(PrivatePkcs8KeyDer::from(key.serialize_der()));
    let signing = provider().key_provider.load_private_key(private).map_err(|error| error.to_string())?;
    Ok(CertifiedKey::new(vec![certificate.der().clone()], signing))
}
