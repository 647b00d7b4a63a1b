//! Reads certificates (RFC 5280) from PEM into the facts that decisions rest on.

use std::net::IpAddr;

use jiff::Timestamp;
use x509_parser::asn1_rs::Oid;
use x509_parser::extensions::{DistributionPointName, GeneralName, ParsedExtension};
use x509_parser::oid_registry::{OID_PKIX_ACCESS_DESCRIPTOR_CA_ISSUERS, OID_PKIX_ACCESS_DESCRIPTOR_OCSP};
use x509_parser::pem::Pem;
use x509_parser::prelude::{FromDer, SubjectPublicKeyInfo, X509Certificate, X509Extension};
use x509_parser::public_key::PublicKey;

use super::broken::{pem_words, x509_words};
use crate::name::Host;

/// What one certificate says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CertificateFacts {
    pub subject: String,
    pub issuer: String,
    /// The DNS names of the subject alternative name extension, lower-cased, and its addresses as hosts of a URL.
    pub names: Vec<String>,
    pub not_before: Timestamp,
    pub not_after: Timestamp,
    /// The subject public key info, DER.
    pub public_key: Vec<u8>,
    /// Its kind and size, as `RSA 2048`.
    pub key: String,
    /// The size by which its strength is reckoned; 0 where that says nothing.
    pub key_bits: usize,
    /// The algorithm that it was signed with, as an object identifier.
    pub signature: String,
    /// Where its issuer's certificate can be fetched (RFC 5280 section 4.2.2.1).
    pub issuer_at: Vec<String>,
    /// Where its CA's list of revoked certificates can be fetched (RFC 5280 section 4.2.1.13).
    pub lists_at: Vec<String>,
    /// Where its CA is asked about it (OCSP, RFC 5280 section 4.2.2.1).
    pub responders_at: Vec<String>,
    /// Whether it may sign others.
    pub is_ca: bool,
    /// Whether servers may show it: it says so, or nothing about its use (RFC 5280 section 4.2.1.12).
    pub is_for_servers: bool,
    /// Whether it demands that a statement about revocation comes with it (RFC 7633).
    pub must_staple: bool,
    pub der: Vec<u8>,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReadError {
    #[error("no certificate in it")]
    Empty,
    #[error("it cannot be read as PEM: {0}")]
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
        let section = section.map_err(|error| ReadError::Pem(pem_words(&error)))?;
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
    let (_, certificate) = X509Certificate::from_der(der).map_err(x509_words)?;
    let time = |seconds: i64| {
        Timestamp::from_second(seconds).map_err(|_| "a date in it lies outside of all times".to_string())
    };
    let names = match certificate.subject_alternative_name().map_err(x509_words)? {
        Some(extension) => extension
            .value
            .general_names
            .iter()
            .filter_map(|name| match name {
                GeneralName::DNSName(text) => Some(text.to_ascii_lowercase()),
                GeneralName::IPAddress(bytes) => address_of(bytes).map(|ip| Host::from(ip).to_string()),
                _ => None,
            })
            .collect(),
        None => vec![],
    };
    let (key, key_bits) = kind_of(certificate.public_key());
    Ok(CertificateFacts {
        subject: certificate.subject().to_string(),
        issuer: certificate.issuer().to_string(),
        names,
        not_before: time(certificate.validity().not_before.timestamp())?,
        not_after: time(certificate.validity().not_after.timestamp())?,
        public_key: certificate.public_key().raw.to_vec(),
        key,
        key_bits,
        signature: certificate.signature_algorithm.algorithm.to_id_string(),
        issuer_at: told_at(&certificate, &OID_PKIX_ACCESS_DESCRIPTOR_CA_ISSUERS),
        lists_at: lists_at(&certificate),
        responders_at: told_at(&certificate, &OID_PKIX_ACCESS_DESCRIPTOR_OCSP),
        is_ca: certificate.is_ca(),
        is_for_servers: match certificate.extended_key_usage() {
            Ok(Some(usage)) => usage.value.server_auth || usage.value.any,
            _ => true,
        },
        must_staple: certificate.extensions().iter().any(demands_staple),
        der: der.to_vec(),
    })
}

/// id-pe-tlsfeature (RFC 7633 section 4.2.3.1), which the parser leaves to us.
pub const TLS_FEATURE: &str = "1.3.6.1.5.5.7.1.24";
/// The feature `status_request`, as the only one: a sequence of one integer.
pub const STATUS_REQUEST: [u8; 5] = [0x30, 0x03, 0x02, 0x01, 0x05];

pub(super) fn demands_staple(extension: &X509Extension<'_>) -> bool {
    extension.value == STATUS_REQUEST && extension.oid.to_id_string() == TLS_FEATURE
}

fn told_at(certificate: &X509Certificate<'_>, method: &Oid<'_>) -> Vec<String> {
    let parsed = certificate.extensions().iter().filter_map(|extension| match extension.parsed_extension() {
        ParsedExtension::AuthorityInfoAccess(access) => Some(&access.accessdescs),
        _ => None,
    });
    let told = parsed.flatten().filter(|access| access.access_method == *method);
    let addresses = told.filter_map(|access| match &access.access_location {
        GeneralName::URI(text) => Some(text.to_string()),
        _ => None,
    });
    addresses.take(4).collect()
}

fn lists_at(certificate: &X509Certificate<'_>) -> Vec<String> {
    let parsed = certificate.extensions().iter().filter_map(|extension| match extension.parsed_extension() {
        ParsedExtension::CRLDistributionPoints(points) => Some(&points.points),
        _ => None,
    });
    let names = parsed.flatten().filter_map(|point| match &point.distribution_point {
        // One of some reasons, or of another issuer, says less.
        Some(DistributionPointName::FullName(names)) if point.reasons.is_none() && point.crl_issuer.is_none() => {
            Some(names)
        }
        _ => None,
    });
    let addresses = names.flatten().filter_map(|name| match name {
        GeneralName::URI(text) => Some(text.to_string()),
        _ => None,
    });
    addresses.take(4).collect()
}

/// The address that its octets stand for (RFC 5280 section 4.2.1.6).
pub(crate) fn address_of(bytes: &[u8]) -> Option<IpAddr> {
    let v4 = <[u8; 4]>::try_from(bytes).ok().map(IpAddr::from);
    v4.or_else(|| <[u8; 16]>::try_from(bytes).ok().map(IpAddr::from))
}

pub(super) fn kind_of(key: &SubjectPublicKeyInfo<'_>) -> (String, usize) {
    match key.parsed() {
        Ok(PublicKey::RSA(rsa)) => (format!("RSA {}", rsa.key_size()), rsa.key_size()),
        Ok(PublicKey::EC(point)) => (format!("EC P-{}", point.key_size()), 0),
        Ok(_) => ("another kind of key".into(), 0),
        Err(_) => ("a key that cannot be read".into(), 0),
    }
}

/// Signatures with SHA-1 or MD5 (RFC 9155, RFC 6151): browsers refuse them.
const WEAK_SIGNATURES: [&str; 4] =
    ["1.2.840.113549.1.1.5", "1.2.840.113549.1.1.4", "1.2.840.10045.4.1", "1.3.14.3.2.29"];

impl CertificateFacts {
    pub fn is_rsa(&self) -> bool {
        self.key_bits > 0
    }

    /// Why browsers would refuse it for its strength.
    pub fn weakness(&self) -> Option<String> {
        if self.is_rsa() && self.key_bits < 2048 {
            return Some(format!("its key is {}, and 2048 is the least", self.key));
        }
        self.is_weakly_signed().then(|| "it is signed with SHA-1 or MD5".to_string())
    }

    /// By a signature that nobody checks any more.
    pub fn is_weakly_signed(&self) -> bool {
        WEAK_SIGNATURES.contains(&self.signature.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_names_its_uses_is_for_servers_if_they_are_among_them() {
        use rcgen::ExtendedKeyUsagePurpose::{Any, ClientAuth, ServerAuth};
        let read = |uses: &[rcgen::ExtendedKeyUsagePurpose]| {
            let key = rcgen::KeyPair::generate().unwrap();
            let mut params = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
            params.extended_key_usages = uses.to_vec();
            read_der(params.self_signed(&key).unwrap().der()).unwrap().is_for_servers
        };
        assert!(read(&[]) && read(&[ServerAuth]) && read(&[ClientAuth, ServerAuth]) && read(&[Any]));
        assert!(!read(&[ClientAuth]));
    }
}
