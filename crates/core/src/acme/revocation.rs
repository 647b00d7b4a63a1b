//! Revoking a certificate (RFC 8555 section 7.6), as a machine without I/O beside that of an order: directory, nonce, the
//! request itself. It is short enough that it is not saved: begun anew, it does no harm.

use serde::Deserialize;
use serde_json::json;

use super::state::base64url;
use super::{Payload, Problem, Request, Response, Signer};

/// Why a certificate is revoked (RFC 5280 section 5.3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RevocationReason {
    Unspecified = 0,
    KeyCompromise = 1,
    AffiliationChanged = 3,
    Superseded = 4,
    CessationOfOperation = 5,
}

/// What the driver is to do next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RevocationStep {
    Send(Request),
    Done,
    /// In the CA's own words.
    Refused(String),
}

/// The way of one revocation.
#[derive(Debug, Clone)]
pub struct Revocation {
    directory_url: String,
    account: String,
    payload: String,
    endpoints: Option<Endpoints>,
    nonce: Option<String>,
    ended: Option<Result<(), String>>,
    tries: u32,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Endpoints {
    new_nonce: String,
    #[serde(default)]
    revoke_cert: String,
}

/// A CA that refuses each nonce must not hold us for ever.
const MOST_TRIES: u32 = 8;

impl Revocation {
    /// Of the certificate with this DER, which the account has had issued.
    pub fn new(directory_url: &str, account: &str, der: &[u8], reason: RevocationReason) -> Self {
        let payload = json!({ "certificate": base64url(der), "reason": reason as u8 }).to_string();
        let (directory_url, account) = (directory_url.to_string(), account.to_string());
        Self { directory_url, account, payload, endpoints: None, nonce: None, ended: None, tries: 0 }
    }

    pub fn next(&self) -> RevocationStep {
        match (&self.ended, &self.endpoints, &self.nonce) {
            (Some(Ok(())), ..) => RevocationStep::Done,
            (Some(Err(why)), ..) => RevocationStep::Refused(why.clone()),
            (None, None, _) => RevocationStep::Send(Request { url: self.directory_url.clone(), payload: Payload::Get }),
            (None, Some(endpoints), None) => {
                RevocationStep::Send(Request { url: endpoints.new_nonce.clone(), payload: Payload::Head })
            }
            (None, Some(endpoints), Some(nonce)) => RevocationStep::Send(Request {
                url: endpoints.revoke_cert.clone(),
                payload: Payload::Signed {
                    json: self.payload.clone(),
                    signer: Signer::Account(self.account.clone()),
                    nonce: nonce.clone(),
                    binding: None,
                },
            }),
        }
    }

    /// Takes the answer to what [`Revocation::next`] had sent.
    pub fn received(&mut self, response: &Response) {
        self.tries += 1;
        let asked_for_nonce = self.endpoints.is_some() && self.nonce.is_none();
        if self.endpoints.is_none() {
            match serde_json::from_slice::<Endpoints>(&response.body) {
                Ok(endpoints) if !endpoints.revoke_cert.is_empty() => self.endpoints = Some(endpoints),
                Ok(_) => self.ended = Some(Err("the CA offers no revocation".into())),
                Err(error) => self.ended = Some(Err(format!("its directory cannot be read: {error}"))),
            }
            return;
        }
        // Each answer brings the next nonce (section 6.5).
        self.nonce = response.nonce.clone();
        if asked_for_nonce {
            if self.nonce.is_none() {
                self.ended = Some(Err("the CA gives no nonce".into()));
            }
            return;
        }
        if response.is_success() {
            self.ended = Some(Ok(()));
            return;
        }
        let problem: Problem = serde_json::from_slice(&response.body).unwrap_or_default();
        match problem.word() {
            "badNonce" if self.tries < MOST_TRIES => {}
            "alreadyRevoked" => self.ended = Some(Ok(())),
            word => {
                let detail = if problem.detail.is_empty() {
                    format!("status {}", response.status)
                } else {
                    problem.detail.clone()
                };
                self.ended = Some(Err(format!("{detail} ({word})")));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DIRECTORY: &str =
        r#"{"newNonce":"https://ca.example/nonce","revokeCert":"https://ca.example/revoke","newOrder":"x"}"#;

    fn answer(status: u16, nonce: &str, body: &str) -> Response {
        Response { status, nonce: Some(nonce.into()), body: body.into(), ..Response::default() }
    }

    fn begun() -> Revocation {
        let mut made = Revocation::new(
            "https://ca.example/dir",
            "https://ca.example/1",
            &[1, 2, 3],
            RevocationReason::KeyCompromise,
        );
        assert!(matches!(made.next(), RevocationStep::Send(Request { payload: Payload::Get, .. })));
        made.received(&answer(200, "", DIRECTORY));
        assert!(matches!(made.next(), RevocationStep::Send(Request { payload: Payload::Head, .. })));
        made.received(&answer(200, "n1", ""));
        made
    }

    fn nonce_of(made: &Revocation) -> String {
        match made.next() {
            RevocationStep::Send(Request { url, payload: Payload::Signed { json, nonce, signer, .. } }) => {
                assert_eq!(
                    (url.as_str(), json.as_str()),
                    ("https://ca.example/revoke", r#"{"certificate":"AQID","reason":1}"#)
                );
                assert_eq!(signer, Signer::Account("https://ca.example/1".into()));
                nonce
            }
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn directory_nonce_request() {
        let mut made = begun();
        assert_eq!(nonce_of(&made), "n1");
        made.received(&answer(400, "n2", r#"{"type":"urn:ietf:params:acme:error:badNonce"}"#));
        assert_eq!(nonce_of(&made), "n2");
        made.received(&answer(200, "n3", ""));
        assert_eq!(made.next(), RevocationStep::Done);
    }

    #[test]
    fn what_a_ca_may_say_instead() {
        let said = |status, body: &str| {
            let mut made = begun();
            made.received(&answer(status, "n2", body));
            made.next()
        };
        assert_eq!(said(400, r#"{"type":"urn:ietf:params:acme:error:alreadyRevoked"}"#), RevocationStep::Done);
        let refused = said(403, r#"{"type":"urn:ietf:params:acme:error:unauthorized","detail":"not yours"}"#);
        assert_eq!(refused, RevocationStep::Refused("not yours (unauthorized)".into()));
        let mut endless = begun();
        for _ in 0..20 {
            endless.received(&answer(400, "n", r#"{"type":"urn:ietf:params:acme:error:badNonce"}"#));
        }
        assert!(matches!(endless.next(), RevocationStep::Refused(_)));
        let mut bare = Revocation::new("d", "a", &[], RevocationReason::Superseded);
        bare.received(&answer(200, "", r#"{"newNonce":"n"}"#));
        assert_eq!(bare.next(), RevocationStep::Refused("the CA offers no revocation".into()));
    }
}
