//! Waits for the authorizations of the order, one after the other, and picks the fitting challenge of each
//! (RFC 8555 sections 7.5, 8.3 and 8.4, RFC 8737).

use serde::{Deserialize, Serialize};

use super::{Finalize, Known, Next, OrderUrls, Proofs, Response, State, Validations, Want, base64url, post_as_get};
use crate::acme::identifier::Identifier;
use crate::acme::message::{Authorization, Problem, Proof, ProofKind, Refusal};
use crate::acme::tls_alpn::proof_digest;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Authorizations {
    pub urls: OrderUrls,
    /// The URLs that are still to be read.
    pub to_read: Vec<String>,
    pub proofs: Vec<Proof>,
    /// Those that the CA is at already.
    #[serde(default)]
    pub watched: Vec<String>,
}

impl Authorizations {
    pub(super) fn want(&self) -> Want {
        match self.to_read.first() {
            Some(url) => post_as_get(url),
            None => post_as_get(&self.urls.order),
        }
    }

    pub(super) fn handle(mut self, response: &Response, known: &Known) -> Next {
        if self.to_read.is_empty() {
            return Err(Refusal::Unexpected {
                during: "reading the authorizations".into(),
                what: "an order without any authorization".into(),
            });
        }
        let authorization: Authorization = response.read("reading the authorizations")?;
        let url = self.to_read.remove(0);
        // One that was not ordered would have us prove what nobody has asked for.
        let identifier = Identifier::of_authorization(&authorization.identifier.value, authorization.wildcard)
            .filter(|identifier| known.brief.identifiers().contains(identifier))
            .ok_or_else(|| Refusal::Unexpected {
                during: "reading the authorizations".into(),
                what: format!("an authorization for `{}`", authorization.identifier.value.escape_debug()),
            })?;
        match authorization.status.as_str() {
            "valid" => {}
            "pending" => {
                let kind = known.brief.proof.kind_for(&identifier);
                let challenge = authorization.challenges.into_iter().find(|challenge| challenge.kind == kind.word());
                let Some(challenge) = challenge else {
                    let offers = format!("the CA offers no {} challenge for this name", kind.word());
                    return Err(refused(identifier, &offers));
                };
                // It was told of the proof before its answer was lost.
                if matches!(challenge.status.as_str(), "processing" | "valid") {
                    self.watched.push(url);
                    return Ok((self.next(), None));
                }
                if !is_token(&challenge.token) {
                    return Err(refused(identifier, "the CA's token is not base64url (RFC 8555 section 8.3)"));
                }
                let authorized = format!("{}.{}", challenge.token, known.brief.thumbprint);
                self.proofs.push(Proof {
                    kind,
                    identifier,
                    content: match kind {
                        ProofKind::Http01 | ProofKind::TlsAlpn01 => authorized,
                        ProofKind::Dns01 => base64url(&proof_digest(&authorized)),
                    },
                    token: challenge.token,
                    challenge_url: challenge.url,
                    authorization_url: url,
                });
            }
            other => return Err(refused(identifier, &format!("its authorization is {}", other.escape_debug()))),
        }
        Ok((self.next(), None))
    }

    fn next(self) -> State {
        let Self { urls, to_read, proofs, watched } = self;
        match (to_read.is_empty(), proofs.is_empty(), watched.is_empty()) {
            (false, ..) => State::Authorizations(Self { urls, to_read, proofs, watched }),
            (true, false, _) => State::Proofs(Proofs { urls, proofs, watched }),
            (true, true, false) => {
                State::Validations(Validations { urls, to_watch: watched, failed: vec![], polls: 0 })
            }
            (true, true, true) => State::Finalize(Finalize { urls, certificate_request: None }),
        }
    }
}

/// A token becomes a file name: nothing but base64url may pass.
fn is_token(token: &str) -> bool {
    (1..=200).contains(&token.len()) && token.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
}

fn refused(identifier: Identifier, detail: &str) -> Refusal {
    Refusal::Names(vec![(identifier, Problem { detail: detail.into(), ..Problem::default() })])
}
