//! The keys of the CA: a root, an intermediate that signs leaves, and the certificate of the CA's own https.

use std::net::IpAddr;
use std::sync::Arc;

use rcgen::{
    BasicConstraints, CertificateParams, CustomExtension, DistinguishedName, DnType, IsCa, Issuer, KeyPair,
    KeyUsagePurpose, SanType, SubjectPublicKeyInfo,
};
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs;
use rustls::pki_types::PrivateKeyDer;
use rustls::pki_types::pem::PemObject;
use x509_parser::certification_request::X509CertificationRequest;
use x509_parser::extensions::{GeneralName, ParsedExtension};
use x509_parser::prelude::FromDer;

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

    /// The certificate that issues, and its key, PEM: for whoever answers in its name.
    pub fn issuer(&self) -> (String, String) {
        (self.intermediate_pem.clone(), self.intermediate.key().serialize_pem())
    }

    /// Signs a certificate request (DER) for so many days if it asks for exactly these names. Gives the chain as PEM.
    /// `responder` is the OCSP responder that they name.
    pub fn sign(&self, request: &[u8], names: &[String], days: u64, responder: Option<&str>) -> Result<String, String> {
        let words = |error: rcgen::Error| error.to_string();
        let request = Request::read(request)?;
        let mut ordered = names.to_vec();
        ordered.sort();
        if request.names != ordered {
            return Err(format!("the request is for {:?}, the order for {ordered:?}", request.names));
        }
        let mut params = CertificateParams::new(ordered).map_err(words)?;
        // Other CAs of today refuse what asks for it, or leave it out.
        if request.stapled {
            params.custom_extensions = vec![CustomExtension::from_oid_content(&TLS_FEATURE, STATUS_REQUEST.to_vec())];
        }
        let now = std::time::SystemTime::now();
        let start = now - std::time::Duration::from_secs(3600);
        params.custom_extensions.extend(responder.map(names_responder));
        params.not_before = start.into();
        params.not_after = (now + std::time::Duration::from_secs(days * 86_400)).into();
        params.distinguished_name = DistinguishedName::new();
        params.use_authority_key_identifier_extension = true;
        let leaf = params.signed_by(&request.key, &self.intermediate).map_err(words)?;
        Ok(leaf.pem() + &self.intermediate_pem)
    }
}

/// id-pe-tlsfeature with `status_request` alone (RFC 7633 sections 4.1 and 4.2.3.1).
const TLS_FEATURE: [u64; 9] = [1, 3, 6, 1, 5, 5, 7, 1, 24];
const STATUS_REQUEST: [u8; 5] = [0x30, 0x03, 0x02, 0x01, 0x05];

/// AuthorityInfoAccess with one OCSP responder (RFC 5280 section 4.2.2.1); the URL is shorter than 100 characters.
fn names_responder(url: &str) -> CustomExtension {
    const OCSP: [u8; 10] = [0x06, 8, 0x2b, 6, 1, 5, 5, 7, 0x30, 1];
    let within = |tag: u8, content: &[u8]| [&[tag, content.len() as u8][..], content].concat();
    let description = within(0x30, &[&OCSP[..], &within(0x86, url.as_bytes())].concat());
    CustomExtension::from_oid_content(&[1, 3, 6, 1, 5, 5, 7, 1, 1], within(0x30, &description))
}

/// What a certificate request (RFC 2986) asks for; its signature has proven the key.
struct Request {
    /// Sorted.
    names: Vec<String>,
    /// Whether the certificate is to demand a statement in each handshake (RFC 7633).
    stapled: bool,
    key: SubjectPublicKeyInfo,
}

impl Request {
    fn read(der: &[u8]) -> Result<Self, String> {
        let (_, request) = X509CertificationRequest::from_der(der).map_err(|error| error.to_string())?;
        request.verify_signature().map_err(|error| error.to_string())?;
        let key = SubjectPublicKeyInfo::from_der(request.certification_request_info.subject_pki.raw)
            .map_err(|error| error.to_string())?;
        let (mut names, mut stapled) = (Vec::new(), false);
        for extension in request.requested_extensions().into_iter().flatten() {
            match extension {
                ParsedExtension::SubjectAlternativeName(all) => {
                    names.extend(all.general_names.iter().filter_map(name_of));
                    if names.len() != all.general_names.len() {
                        return Err("the request has names of other kinds".into());
                    }
                }
                ParsedExtension::UnsupportedExtension { oid } => stapled |= oid.to_id_string() == "1.3.6.1.5.5.7.1.24",
                _ => {}
            }
        }
        names.sort();
        Ok(Self { names, stapled, key })
    }
}

fn name_of(name: &GeneralName<'_>) -> Option<String> {
    match name {
        GeneralName::DNSName(name) => Some(name.to_ascii_lowercase()),
        GeneralName::IPAddress(bytes) => {
            let v4 = <[u8; 4]>::try_from(*bytes).ok().map(IpAddr::from);
            v4.or_else(|| <[u8; 16]>::try_from(*bytes).ok().map(IpAddr::from)).map(|address| address.to_string())
        }
        _ => None,
    }
}

fn authority(name: &str) -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name.push(DnType::CommonName, name);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    params
}
