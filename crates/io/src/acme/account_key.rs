//! The account key of a CA and signatures with it (RFC 7515, ES256; RFC 7638 thumbprint).

use std::path::Path;

use aws_lc_rs::digest;
use aws_lc_rs::rand::SystemRandom;
use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use brightharbor_core::acme::Signer;
use rustls::pki_types::PrivatePkcs8KeyDer;
use rustls::pki_types::pem::PemObject;
use serde_json::{Value, json};

use crate::install::{FileError, make_private_folder, write_atomically};
use crate::keys::new_key_pem;

#[derive(Debug, thiserror::Error)]
pub enum AccountKeyError {
    #[error(transparent)]
    File(#[from] FileError),
    #[error("the account key {path} cannot be used: {reason}")]
    Key { path: String, reason: String },
}

pub(super) struct AccountKey {
    pair: EcdsaKeyPair,
}

impl AccountKey {
    /// Reads the key at `path`, or makes one there (0600) if there is none.
    pub fn load_or_make(path: &Path) -> Result<Self, AccountKeyError> {
        let failed = |reason: String| AccountKeyError::Key { path: path.display().to_string(), reason };
        if !path.exists() {
            make_private_folder(path.parent().unwrap_or(path))?;
            let pem = new_key_pem().map_err(|error| failed(error.to_string()))?;
            write_atomically(path, pem.as_bytes(), 0o600)?;
        }
        let der = PrivatePkcs8KeyDer::from_pem_file(path).map_err(|error| failed(error.to_string()))?;
        let pair = EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, der.secret_pkcs8_der())
            .map_err(|error| failed(error.to_string()))?;
        Ok(Self { pair })
    }

    /// The public key as a JWK, its members in the order that the thumbprint needs.
    pub fn jwk(&self) -> Value {
        let point = self.pair.public_key().as_ref();
        // Uncompressed: 0x04, then x and y of 32 bytes each (SEC 1 section 2.3.3).
        let (x, y) = (&point[1..33], &point[33..65]);
        json!({ "crv": "P-256", "kty": "EC", "x": encode(x), "y": encode(y) })
    }

    pub fn thumbprint(&self) -> String {
        encode(digest::digest(&digest::SHA256, self.jwk().to_string().as_bytes()).as_ref())
    }

    /// The inner request of a change of keys, signed by this one, the new one (RFC 8555 section 7.3.5).
    pub fn sign_change(&self, url: &str, account: &str, old: &AccountKey) -> Result<String, String> {
        let header = json!({ "alg": "ES256", "jwk": self.jwk(), "url": url });
        let body = self.sign_with(&header, &json!({ "account": account, "oldKey": old.jwk() }).to_string())?;
        Ok(body.to_string())
    }

    /// The signed request body (RFC 8555 section 6.2).
    pub fn sign(&self, url: &str, nonce: &str, signer: &Signer, payload: &str) -> Result<Vec<u8>, String> {
        let mut header = json!({ "alg": "ES256", "nonce": nonce, "url": url });
        match signer {
            Signer::NewKey => header["jwk"] = self.jwk(),
            Signer::Account(account) => header["kid"] = json!(account),
        }
        Ok(self.sign_with(&header, payload)?.to_string().into_bytes())
    }

    fn sign_with(&self, header: &Value, payload: &str) -> Result<Value, String> {
        let (protected, payload) = (encode(header.to_string().as_bytes()), encode(payload.as_bytes()));
        let message = format!("{protected}.{payload}");
        let signature = self.pair.sign(&SystemRandom::new(), message.as_bytes()).map_err(|error| error.to_string())?;
        Ok(json!({ "protected": protected, "payload": payload, "signature": encode(signature.as_ref()) }))
    }
}

pub(super) fn encode(bytes: &[u8]) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};

    #[test]
    fn a_key_is_made_once_kept_private_and_signs_what_it_says() {
        use std::os::unix::fs::MetadataExt;
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ca/account.pem");
        let key = AccountKey::load_or_make(&path).unwrap();
        assert_eq!(std::fs::metadata(&path).unwrap().mode() & 0o777, 0o600);
        assert_eq!(AccountKey::load_or_make(&path).unwrap().thumbprint(), key.thumbprint());
        let body =
            key.sign("https://ca.example/new-order", "n1", &Signer::Account("https://ca.example/1".into()), "{}");
        let body: Value = serde_json::from_slice(&body.unwrap()).unwrap();
        let text = |name: &str| body[name].as_str().unwrap().to_string();
        let header: Value = serde_json::from_slice(&URL_SAFE_NO_PAD.decode(text("protected")).unwrap()).unwrap();
        assert_eq!(header["kid"], "https://ca.example/1");
        assert_eq!((header["alg"].as_str(), header["nonce"].as_str()), (Some("ES256"), Some("n1")));
        let public = UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, key.pair.public_key().as_ref());
        let signature = URL_SAFE_NO_PAD.decode(text("signature")).unwrap();
        public.verify(format!("{}.{}", text("protected"), text("payload")).as_bytes(), &signature).unwrap();
    }

    #[test]
    fn a_spoilt_key_file_is_told_and_not_replaced() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("account.pem");
        std::fs::write(&path, "spoilt").unwrap();
        assert!(matches!(AccountKey::load_or_make(&path), Err(AccountKeyError::Key { .. })));
        assert_eq!(std::fs::read_to_string(&path).unwrap(), "spoilt");
    }
}
