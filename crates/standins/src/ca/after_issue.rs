//! What becomes of issued certificates: revocation (RFC 8555 section 7.6) and renewal information (RFC 9773).

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject;
use serde_json::{Value, json};
use x509_parser::extensions::ParsedExtension;
use x509_parser::prelude::{FromDer, X509Certificate};

use super::objects::Books;

/// Marks the certificate with this DER as revoked; the error is a problem's type and detail.
pub(super) fn revoke(books: &mut Books, der: &[u8]) -> Result<(), (&'static str, String)> {
    let leaf = |chain: &String| CertificateDer::from_pem_slice(chain.as_bytes()).map(|leaf| leaf.to_vec()).ok();
    let number = books.certificates.iter().find(|(_, chain)| leaf(chain).as_deref() == Some(der)).map(|(n, _)| *n);
    let number = number.ok_or_else(|| ("malformed", "this CA has not issued that certificate".to_string()))?;
    if books.revoked.insert(number) {
        Ok(())
    } else {
        Err(("alreadyRevoked", "that certificate is revoked already".into()))
    }
}

/// When the certificate of this identifier should be renewed: in the last third of its life, or at once if it is revoked.
pub(super) fn renewal(books: &Books, identifier: &str) -> Option<Value> {
    books.certificates.iter().find_map(|(number, chain)| {
        let der = CertificateDer::from_pem_slice(chain.as_bytes()).ok()?;
        let (_, leaf) = X509Certificate::from_der(&der).ok()?;
        let key = leaf.extensions().iter().find_map(|extension| match extension.parsed_extension() {
            ParsedExtension::AuthorityKeyIdentifier(authority) => authority.key_identifier.as_ref().map(|id| id.0),
            _ => None,
        })?;
        let own = format!("{}.{}", URL_SAFE_NO_PAD.encode(key), URL_SAFE_NO_PAD.encode(leaf.raw_serial()));
        if own != identifier {
            return None;
        }
        let moment = |seconds: i64| Timestamp::from_second(seconds).ok();
        let end = moment(leaf.validity().not_after.timestamp())?;
        let (from, to) = if books.revoked.contains(number) {
            let start = moment(leaf.validity().not_before.timestamp())?;
            (start, start + SignedDuration::from_secs(60))
        } else {
            (end - SignedDuration::from_hours(30 * 24), end - SignedDuration::from_hours(28 * 24))
        };
        Some(json!({ "suggestedWindow": { "start": from.to_string(), "end": to.to_string() } }))
    })
}
