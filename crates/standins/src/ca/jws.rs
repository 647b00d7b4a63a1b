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
    /// Only within another request there is none.
    pub nonce: Option<String>,
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
    /// One that came by itself.
    pub fn read(body: &[u8]) -> Result<Self, String> {
        let signed = Self::parse(body)?;
        if signed.header.nonce.is_none() { Err("there is no nonce".into()) } else { Ok(signed) }
    }

    /// One within another, for the same URL (RFC 8555 section 7.3.5).
    pub fn read_within(body: &[u8], url: &str) -> Result<Self, String> {
        let signed = Self::parse(body)?;
        match &signed.header {
            header if header.nonce.is_some() => Err("there must be no nonce within".into()),
            header if header.url != url => Err("the url within is another one".into()),
            _ => Ok(signed),
        }
    }

    fn parse(body: &[u8]) -> Result<Self, String> {
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

#[cfg(test)]
mod tests {
    use super::*;
    use ::aws_lc_rs::rand::SystemRandom;
    use ::aws_lc_rs::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair};
    use serde_json::json;

    fn pair() -> (EcdsaKeyPair, Jwk) {
        let pair = EcdsaKeyPair::generate(&ECDSA_P256_SHA256_FIXED_SIGNING).unwrap();
        let point = pair.public_key().as_ref();
        let (x, y) = (URL_SAFE_NO_PAD.encode(&point[1..33]), URL_SAFE_NO_PAD.encode(&point[33..65]));
        (pair, Jwk { kty: "EC".into(), crv: "P-256".into(), x, y })
    }

    fn signed(pair: &EcdsaKeyPair, header: serde_json::Value, payload: &str) -> Vec<u8> {
        let encode = |text: &str| URL_SAFE_NO_PAD.encode(text);
        let (protected, payload) = (encode(&header.to_string()), encode(payload));
        let signature = pair.sign(&SystemRandom::new(), format!("{protected}.{payload}").as_bytes()).unwrap();
        let signature = URL_SAFE_NO_PAD.encode(signature.as_ref());
        json!({ "protected": protected, "payload": payload, "signature": signature }).to_string().into_bytes()
    }

    #[test]
    fn a_signature_holds_for_its_own_key_and_text_alone() {
        let (key, jwk) = pair();
        let header = json!({ "alg": "ES256", "nonce": "n", "url": "u", "kid": "k" });
        let read = Signed::read(&signed(&key, header.clone(), "{}")).unwrap();
        assert_eq!((read.verify(&jwk), read.payload.as_slice()), (Ok(()), &b"{}"[..]));
        assert!(read.verify(&pair().1).is_err());
        let mut changed: serde_json::Value = serde_json::from_slice(&signed(&key, header, "{}")).unwrap();
        changed["payload"] = json!(URL_SAFE_NO_PAD.encode("{ }"));
        assert!(Signed::read(changed.to_string().as_bytes()).unwrap().verify(&jwk).is_err());
    }

    #[test]
    fn headers_that_the_rfc_forbids_are_refused() {
        let (key, _) = pair();
        for header in [
            json!({ "alg": "none", "nonce": "n", "url": "u", "kid": "k" }),
            json!({ "alg": "ES256", "nonce": "n", "url": "u" }),
            json!({ "alg": "ES256", "url": "u", "kid": "k" }),
            json!({ "alg": "ES256", "nonce": "n", "url": "u", "kid": "k", "jwk": { "kty": "EC", "crv": "P-256", "x": "", "y": "" } }),
        ] {
            assert!(Signed::read(&signed(&key, header.clone(), "{}")).is_err(), "{header}");
        }
        let within = |header: serde_json::Value| Signed::read_within(&signed(&key, header, "{}"), "u").is_ok();
        assert!(within(json!({ "alg": "ES256", "url": "u", "kid": "k" })));
        assert!(!within(json!({ "alg": "ES256", "url": "other", "kid": "k" })));
        assert!(!within(json!({ "alg": "ES256", "nonce": "n", "url": "u", "kid": "k" })));
    }
}
