//! The keys of the CA: a root, an intermediate that signs leaves, and the certificate of the CA's own https.

use std::net::IpAddr;
use std::sync::Arc;

use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DistinguishedName, DnType, IsCa, Issuer,
    KeyPair, KeyUsagePurpose, SanType,
};
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateSigningRequestDer, PrivateKeyDer};

pub(crate) struct Authority {
    pub root_pem: String,
    intermediate_pem: String,
    intermediate: Issuer<'static, KeyPair>,
    https: Arc<ServerConfig>,
}

impl Authority {
    /// Makes all keys anew.
    pub fn new(https_address: IpAddr) -> Result<Self, String> {
        let words = |error: rcgen::Error| error.to_string();
        let root_key = KeyPair::generate().map_err(words)?;
        let root_params = authority("Saltmarsh Coast Root");
        let root_pem = root_params.self_signed(&root_key).map_err(words)?.pem();
        let root = Issuer::new(root_params, root_key);

        let key = KeyPair::generate().map_err(words)?;
        let params = authority("Saltmarsh Coast Issuing CA");
        let intermediate_pem = params.signed_by(&key, &root).map_err(words)?.pem();
        let intermediate = Issuer::new(params, key);

        let key = KeyPair::generate().map_err(words)?;
        let mut params = CertificateParams::default();
        params.subject_alt_names = vec![SanType::IpAddress(https_address)];
        let certificate = params.signed_by(&key, &root).map_err(words)?;
        let private = PrivateKeyDer::from_pem_slice(key.serialize_pem().as_bytes()).map_err(|e| e.to_string())?;
        let https = ServerConfig::builder_with_provider(Arc::new(aws_lc_rs::default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|error| error.to_string())?
            .with_no_client_auth()
            .with_single_cert(vec![certificate.der().clone()], private)
            .map_err(|error| error.to_string())?;
        Ok(Self { root_pem, intermediate_pem, intermediate, https: Arc::new(https) })
    }

    pub fn https(&self) -> Arc<ServerConfig> {
        Arc::clone(&self.https)
    }

    /// Signs a certificate request (DER) for so many days if it asks for exactly these names. Gives the chain as PEM.
    pub fn sign(&self, request: &[u8], names: &[String], days: u64) -> Result<String, String> {
        let der = CertificateSigningRequestDer::from(request.to_vec());
        let mut request = CertificateSigningRequestParams::from_der(&der).map_err(|error| error.to_string())?;
        let mut asked: Vec<String> = request
            .params
            .subject_alt_names
            .iter()
            .filter_map(|name| match name {
                SanType::DnsName(name) => Some(name.as_str().to_ascii_lowercase()),
                SanType::IpAddress(address) => Some(address.to_string()),
                _ => None,
            })
            .collect();
        asked.sort();
        let mut ordered = names.to_vec();
        ordered.sort();
        if asked != ordered || request.params.subject_alt_names.len() != names.len() {
            return Err(format!("the request is for {asked:?}, the order for {ordered:?}"));
        }
        let now = std::time::SystemTime::now();
        let start = now - std::time::Duration::from_secs(3600);
        request.params.not_before = start.into();
        request.params.not_after = (now + std::time::Duration::from_secs(days * 86_400)).into();
        request.params.distinguished_name = DistinguishedName::new();
        request.params.use_authority_key_identifier_extension = true;
        let leaf = request.signed_by(&self.intermediate).map_err(|error| error.to_string())?;
        Ok(leaf.pem() + &self.intermediate_pem)
    }
}

fn authority(name: &str) -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params
}
