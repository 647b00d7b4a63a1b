//! Binds a new account to a customer's account at the CA (RFC 8555 section 7.3.4): a signature over the account's
//! public key, with a key that the CA has given out.

use std::os::unix::fs::PermissionsExt;
use std::path::PathBuf;

use aws_lc_rs::hmac;
use base64::Engine;
use base64::engine::general_purpose::{STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use brightharbor_core::harbor::ExternalAccount;
use serde_json::{Value, json};

use crate::install::{read_regular, rely_on};

use super::account_key::encode;

#[derive(Debug, thiserror::Error)]
pub enum ExternalKeyError {
    #[error("the key of the external account cannot be read: {0}: {1}")]
    File(PathBuf, std::io::Error),
    #[error("{0} can be read by others; make it readable by its owner alone: chmod 600 {0}")]
    Open(PathBuf),
    #[error("{0} does not hold a key as CAs give it (base64url, one line)")]
    Text(PathBuf),
}

/// A key is much shorter.
const MOST_BYTES: usize = 64 << 10;

/// The key that the CA has given out.
pub(super) struct ExternalKey {
    id: String,
    key: hmac::Key,
}

impl ExternalKey {
    pub fn read(account: &ExternalAccount) -> Result<Self, ExternalKeyError> {
        let path = &account.key_file;
        let failed = |error| ExternalKeyError::File(path.clone(), error);
        if std::fs::metadata(path).map_err(failed)?.permissions().mode() & 0o077 != 0 {
            return Err(ExternalKeyError::Open(path.clone()));
        }
        rely_on(path).map_err(|error| failed(std::io::Error::other(error.to_string())))?;
        let text = zeroize::Zeroizing::new(read_regular(path, MOST_BYTES).map_err(failed)?);
        let text = String::from_utf8_lossy(&text);
        let text = text.trim().trim_end_matches('=');
        // Some hand it out in the other alphabet.
        let bytes = URL_SAFE_NO_PAD.decode(text).or_else(|_| STANDARD_NO_PAD.decode(text));
        match bytes.map(zeroize::Zeroizing::new) {
            Ok(bytes) if !bytes.is_empty() => {
                Ok(Self { id: account.id.clone(), key: hmac::Key::new(hmac::HMAC_SHA256, &bytes) })
            }
            _ => Err(ExternalKeyError::Text(path.clone())),
        }
    }

    /// What goes into the request for a new account at `url`.
    pub fn bind(&self, url: &str, account_key: &Value) -> Value {
        let header = json!({ "alg": "HS256", "kid": self.id, "url": url });
        let (protected, payload) = (encode(header.to_string().as_bytes()), encode(account_key.to_string().as_bytes()));
        let signature = hmac::sign(&self.key, format!("{protected}.{payload}").as_bytes());
        json!({ "protected": protected, "payload": payload, "signature": encode(signature.as_ref()) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_binding_is_a_signature_over_the_accounts_public_key() {
        let folder = tempfile::tempdir().unwrap();
        let key_file = folder.path().join("external.key");
        std::fs::write(&key_file, "c2VhLXdhdGVyLWFuZC1icmVhZA\n").unwrap();
        let account = ExternalAccount { id: "customer-7".into(), key_file: key_file.clone() };
        std::fs::set_permissions(&key_file, std::fs::Permissions::from_mode(0o644)).unwrap();
        assert!(matches!(ExternalKey::read(&account), Err(ExternalKeyError::Open(_))));
        std::fs::set_permissions(&key_file, std::fs::Permissions::from_mode(0o600)).unwrap();
        let bound = ExternalKey::read(&account).unwrap().bind("https://ca.example/account", &json!({ "kty": "EC" }));
        let text = |name: &str| bound[name].as_str().unwrap().to_string();
        let header: Value = serde_json::from_slice(&URL_SAFE_NO_PAD.decode(text("protected")).unwrap()).unwrap();
        assert_eq!(header, json!({ "alg": "HS256", "kid": "customer-7", "url": "https://ca.example/account" }));
        assert_eq!(URL_SAFE_NO_PAD.decode(text("payload")).unwrap(), br#"{"kty":"EC"}"#);
        let key = hmac::Key::new(hmac::HMAC_SHA256, b"sea-water-and-bread");
        let signed = format!("{}.{}", text("protected"), text("payload"));
        hmac::verify(&key, signed.as_bytes(), &URL_SAFE_NO_PAD.decode(text("signature")).unwrap()).unwrap();
        if crate::install::is_root() {
            std::os::unix::fs::chown(&key_file, Some(12_345), None).unwrap();
            let refused = ExternalKey::read(&account).err().map(|error| error.to_string()).unwrap_or_default();
            assert!(refused.contains("may be changed by others"), "{refused}");
            std::os::unix::fs::chown(&key_file, Some(0), None).unwrap();
        }
        std::fs::write(&key_file, "not base64!").unwrap();
        assert!(matches!(ExternalKey::read(&account), Err(ExternalKeyError::Text(_))));
    }
}
