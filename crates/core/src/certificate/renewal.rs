//! When a certificate is to be renewed: the name that the CA knows it by (RFC 9773 section 4.1).

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use x509_parser::extensions::ParsedExtension;
use x509_parser::prelude::{FromDer, X509Certificate};

/// The identifier of a certificate for its CA: the issuer's key identifier and the serial number, both base64url.
/// `None` for one that does not name its issuer's key.
pub fn renewal_id(der: &[u8]) -> Option<String> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    let issuer_key = certificate.extensions().iter().find_map(|extension| match extension.parsed_extension() {
        ParsedExtension::AuthorityKeyIdentifier(authority) => authority.key_identifier.as_ref().map(|id| id.0),
        _ => None,
    })?;
    Some(format!("{}.{}", URL_SAFE_NO_PAD.encode(issuer_key), URL_SAFE_NO_PAD.encode(certificate.raw_serial())))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The certificate of RFC 9773 section 4.1's example is not given there; its parts are.
    #[test]
    fn the_identifier_is_the_issuers_key_and_the_serial_number() {
        let mut params = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap();
        params.serial_number = Some(rcgen::SerialNumber::from_slice(&[0x00, 0x87, 0x65, 0x43, 0x21]));
        params.use_authority_key_identifier_extension = true;
        params.key_identifier_method = rcgen::KeyIdMethod::PreSpecified(vec![
            0x69, 0x88, 0x5B, 0x6B, 0x87, 0x46, 0x40, 0x41, 0xE1, 0xB3, 0x7B, 0x84, 0x7B, 0xA0, 0xAE, 0x2C, 0xDE, 0x01,
            0xC8, 0xD4,
        ]);
        let key = rcgen::KeyPair::generate().unwrap();
        let issuer = rcgen::Issuer::from_params(&params, &key);
        let der = params.clone().signed_by(&key, &issuer).unwrap();
        assert_eq!(renewal_id(der.der()).as_deref(), Some("aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE"));
    }

    #[test]
    fn without_the_issuers_key_there_is_none() {
        let key = rcgen::KeyPair::generate().unwrap();
        let der = rcgen::CertificateParams::new(vec!["gullrock.example".into()]).unwrap().self_signed(&key).unwrap();
        assert_eq!(renewal_id(der.der()), None);
        assert_eq!(renewal_id(b"no certificate"), None);
    }
}
