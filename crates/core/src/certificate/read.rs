//! Reads certificates (RFC 5280) from PEM into the facts that decisions rest on.

use jiff::Timestamp;
use x509_parser::extensions::GeneralName;
use x509_parser::pem::Pem;
use x509_parser::prelude::{FromDer, X509Certificate};

/// What one certificate says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateFacts {
    pub subject: String,
    pub issuer: String,
    /// The DNS names of the subject alternative name extension, lower-cased.
    pub names: Vec<String>,
    pub not_before: Timestamp,
    pub not_after: Timestamp,
    /// The subject public key info, DER.
    pub public_key: Vec<u8>,
    pub der: Vec<u8>,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReadError {
    #[error("there is no certificate in it")]
    Empty,
    #[error("it is not PEM: {0}")]
    Pem(String),
    #[error("certificate {number} cannot be read: {reason}")]
    Certificate { number: usize, reason: String },
    #[error("it holds more than {0} certificates")]
    TooMany(usize),
}

const MOST_CERTIFICATES: usize = 20;

/// Reads the certificates of a PEM text in their order; other PEM sections are passed over.
pub fn read_chain(pem: &[u8]) -> Result<Vec<CertificateFacts>, ReadError> {
    let mut chain = Vec::new();
    for section in Pem::iter_from_buffer(pem) {
        let section = section.map_err(|error| ReadError::Pem(error.to_string()))?;
        if section.label != "CERTIFICATE" {
            continue;
        }
        if chain.len() == MOST_CERTIFICATES {
            return Err(ReadError::TooMany(MOST_CERTIFICATES));
        }
        let number = chain.len() + 1;
        chain.push(read_der(&section.contents).map_err(|reason| ReadError::Certificate { number, reason })?);
    }
    if chain.is_empty() { Err(ReadError::Empty) } else { Ok(chain) }
}

/// Reads one DER certificate; the error says what is wrong with it.
pub fn read_der(der: &[u8]) -> Result<CertificateFacts, String> {
    let (_, certificate) = X509Certificate::from_der(der).map_err(|error| error.to_string())?;
    let time = |seconds: i64| Timestamp::from_second(seconds).map_err(|error| error.to_string());
    let names = match certificate.subject_alternative_name().map_err(|error| error.to_string())? {
        Some(extension) => extension
            .value
            .general_names
            .iter()
            .filter_map(|name| match name {
                GeneralName::DNSName(text) => Some(text.to_ascii_lowercase()),
                _ => None,
            })
            .collect(),
        None => vec![],
    };
    Ok(CertificateFacts {
        subject: certificate.subject().to_string(),
        issuer: certificate.issuer().to_string(),
        names,
        not_before: time(certificate.validity().not_before.timestamp())?,
        not_after: time(certificate.validity().not_after.timestamp())?,
        public_key: certificate.public_key().raw.to_vec(),
        der: der.to_vec(),
    })
}
