//! Reads and verifies a signed request: flattened JWS, ES256, with the header fields of RFC 8555 section 6.2.

use ::aws_lc_rs::digest;
use ::aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED, UnparsedPublicKey};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use serde::Deserialize;

#[derive(Deserialize)]
struct Flattened {
    protected: String,
    payload: String,
    signature: String,
}

/// The protected header.
#[derive(Debug, Deserialize)]
pub(super) struct Header {
    pub alg: String,
    pub nonce: String,
    pub url: String,
    pub kid: Option<String>,
    pub jwk: Option<Jwk>,
}

#[derive(Debug, Clone, PartialEq, Deserialize)]
pub(super) struct Jwk {
    pub kty: String,
    pub crv: String,
    pub x: String,
    pub y: String,
}

/// A request whose form is right; its signature is still to be checked with a key.
pub(super) struct Signed {
    pub header: Header,
    pub payload: Vec<u8>,
    message: String,
    signature: Vec<u8>,
}

pub(super) fn decode(text: &str) -> Result<Vec<u8>, String> {
    URL_SAFE_NO_PAD.decode(text).map_err(|error| error.to_string())
}

impl Signed {
    pub fn read(body: &[u8]) -> Result<Self, String> {
        let jws: Flattened = serde_json::from_slice(body).map_err(|error| error.to_string())?;
        let header: Header = serde_json::from_slice(&decode(&jws.protected)?).map_err(|error| error.to_string())?;
        if header.alg != "ES256" {
            return Err(format!("the algorithm {} is not supported", header.alg));
        }
        if header.jwk.is_some() == header.kid.is_some() {
            return Err("exactly one of jwk and kid must be there".into());
        }
        Ok(Self {
            payload: decode(&jws.payload)?,
            signature: decode(&jws.signature)?,
            message: format!("{}.{}", jws.protected, jws.payload),
            header,
        })
    }

    pub fn verify(&self, key: &Jwk) -> Result<(), String> {
        if (key.kty.as_str(), key.crv.as_str()) != ("EC", "P-256") {
            return Err("only P-256 keys are supported".into());
        }
        let mut point = vec![4];
        point.extend(decode(&key.x)?);
        point.extend(decode(&key.y)?);
        UnparsedPublicKey::new(&ECDSA_P256_SHA256_FIXED, point)
            .verify(self.message.as_bytes(), &self.signature)
            .map_err(|_| "the signature is wrong".into())
    }
}

impl Jwk {
    /// RFC 7638: the required members, in lexicographic order.
    pub fn thumbprint(&self) -> String {
        let text = format!(r#"{{"crv":"{}","kty":"{}","x":"{}","y":"{}"}}"#, self.crv, self.kty, self.x, self.y);
        URL_SAFE_NO_PAD.encode(digest::digest(&digest::SHA256, text.as_bytes()).as_ref())
    }
}
