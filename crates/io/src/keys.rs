//! Private keys: made, kept and compared here, never shown. Certificate requests (RFC 2986) are signed with them.

use brightharbor_core::name::Hostname;
use rcgen::{CertificateParams, DistinguishedName, KeyPair, PKCS_ECDSA_P256_SHA256, PublicKeyData};

#[derive(Debug, thiserror::Error)]
#[error("{what}: {reason}")]
pub struct KeyError {
    what: &'static str,
    reason: String,
}

fn failed(what: &'static str) -> impl Fn(rcgen::Error) -> KeyError {
    move |error| KeyError { what, reason: error.to_string() }
}

/// A new P-256 key, as PKCS#8 PEM.
pub fn new_key_pem() -> Result<String, KeyError> {
    let key = KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).map_err(failed("no key could be made"))?;
    Ok(key.serialize_pem())
}

/// The public half of a PEM key: its subject public key info, DER.
pub fn public_half(key_pem: &str) -> Result<Vec<u8>, KeyError> {
    let key = KeyPair::from_pem(key_pem).map_err(failed("the key cannot be read"))?;
    Ok(key.subject_public_key_info())
}

/// A certificate request for the names, DER. The names stand in the extension alone: CAs take nothing else.
pub fn certificate_request(key_pem: &str, names: &[Hostname]) -> Result<Vec<u8>, KeyError> {
    let key = KeyPair::from_pem(key_pem).map_err(failed("the key cannot be read"))?;
    let names: Vec<String> = names.iter().map(|name| name.as_str().to_string()).collect();
    let mut params = CertificateParams::new(names).map_err(failed("the request cannot be made"))?;
    params.distinguished_name = DistinguishedName::new();
    let request = params.serialize_request(&key).map_err(failed("the request cannot be signed"))?;
    Ok(request.der().to_vec())
}
