//! What a certificate request says (RFC 2986).

use x509_parser::certification_request::X509CertificationRequest;
use x509_parser::extensions::{GeneralName, ParsedExtension};
use x509_parser::prelude::FromDer;

use super::address_of;
use super::broken::x509_words;
use crate::name::Host;

/// What a certificate request says (RFC 2986).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RequestFacts {
    pub subject: String,
    pub names: Vec<String>,
    /// The subject public key info, DER.
    pub public_key: Vec<u8>,
    pub der: Vec<u8>,
}

/// Reads a request; its own signature is checked, so that whoever made it held the key.
pub fn read_request(der: &[u8]) -> Result<RequestFacts, String> {
    let (_, request) = X509CertificationRequest::from_der(der).map_err(x509_words)?;
    request.verify_signature().map_err(|_| "its signature is not that of its key".to_string())?;
    let info = &request.certification_request_info;
    let names = request.requested_extensions().into_iter().flatten().filter_map(|extension| match extension {
        ParsedExtension::SubjectAlternativeName(names) => Some(&names.general_names),
        _ => None,
    });
    let names = names.flatten().filter_map(|name| match name {
        GeneralName::DNSName(text) => Some(text.to_ascii_lowercase()),
        GeneralName::IPAddress(bytes) => address_of(bytes).map(|ip| Host::from(ip).to_string()),
        _ => None,
    });
    Ok(RequestFacts {
        subject: info.subject.to_string(),
        names: names.collect(),
        public_key: info.subject_pki.raw.to_vec(),
        der: der.to_vec(),
    })
}
