//! Waits for the authorizations of the order, one after the other, and picks the http-01 challenge of each
//! (RFC 8555 sections 7.5 and 8.3).

use serde::{Deserialize, Serialize};

use super::{Finalize, Known, Next, OrderUrls, Proofs, Response, State, Want, post_as_get};
use crate::acme::message::{Authorization, Problem, Proof, Refusal};
use crate::name::Hostname;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Authorizations {
    pub urls: OrderUrls,
    /// The URLs that are still to be read.
    pub to_read: Vec<String>,
    pub proofs: Vec<Proof>,
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
        let name = authorization.identifier.value;
        match authorization.status.as_str() {
            "valid" => {}
            "pending" => {
                let challenge = authorization.challenges.into_iter().find(|challenge| challenge.kind == "http-01");
                let Some(challenge) = challenge else {
                    return Err(refused(&name, "the CA offers no http-01 challenge for this name"));
                };
                if !is_token(&challenge.token) {
                    return Err(refused(&name, "the CA's token is not base64url (RFC 8555 section 8.3)"));
                }
                self.proofs.push(Proof {
                    name,
                    content: format!("{}.{}", challenge.token, known.brief.thumbprint),
                    token: challenge.token,
                    challenge_url: challenge.url,
                    authorization_url: url,
                });
            }
            other => return Err(refused(&name, &format!("its authorization is {other}"))),
        }
        let next = match (self.to_read.is_empty(), self.proofs.is_empty()) {
            (false, _) => State::Authorizations(self),
            (true, true) => State::Finalize(Finalize { urls: self.urls, certificate_request: None }),
            (true, false) => State::Proofs(Proofs { urls: self.urls, proofs: self.proofs }),
        };
        Ok((next, None))
    }
}

/// A token becomes a file name: nothing but base64url may pass.
fn is_token(token: &str) -> bool {
    (1..=200).contains(&token.len()) && token.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
}

fn refused(name: &str, detail: &str) -> Refusal {
    let problem = Problem { detail: detail.into(), ..Problem::default() };
    match Hostname::parse(name) {
        Ok(hostname) => Refusal::Names(vec![(hostname, problem)]),
        Err(_) => Refusal::Unexpected { during: "reading the authorizations".into(), what: detail.into() },
    }
}
