//! Waits until the CA has fetched every proof (RFC 8555 section 7.5.1): asks each authorization until it is decided.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Finalize, Known, MOST_POLLS, Next, OrderUrls, Response, State, Want, next_poll, post_as_get};
use crate::acme::identifier::Identifier;
use crate::acme::message::{Authorization, Problem, Refusal};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Validations {
    pub urls: OrderUrls,
    /// The authorizations that are not decided yet.
    pub to_watch: Vec<String>,
    /// Names that the CA could not validate. All are gathered, so that the next order can leave them all out.
    pub failed: Vec<(Identifier, Problem)>,
    pub polls: u32,
}

impl Validations {
    pub(super) fn want(&self) -> Want {
        post_as_get(self.to_watch.first().map_or("", String::as_str))
    }

    pub(super) fn handle(mut self, response: &Response, known: &Known, now: Timestamp) -> Next {
        let authorization: Authorization = response.read("waiting for the validation")?;
        match authorization.status.as_str() {
            "pending" | "processing" => {
                self.polls += 1;
                if self.polls > MOST_POLLS {
                    return Err(Refusal::Slow { during: "waiting for the validation".into(), polls: self.polls });
                }
                let wait = next_poll(response, self.polls, now);
                return Ok((State::Validations(self), wait));
            }
            "valid" => {}
            status => {
                let told = authorization.challenges.into_iter().find_map(|challenge| challenge.error);
                let problem = told.unwrap_or_else(|| Problem {
                    detail: format!("its authorization became {status}, without a reason"),
                    ..Problem::default()
                });
                let told = Identifier::of_authorization(&authorization.identifier.value, authorization.wildcard);
                match told.filter(|told| known.brief.identifiers().contains(told)) {
                    Some(identifier) => self.failed.push((identifier, problem)),
                    None => {
                        return Err(Refusal::Problem { during: "validation".into(), problem, not_before: None });
                    }
                }
            }
        }
        self.to_watch.remove(0);
        if !self.to_watch.is_empty() {
            return Ok((State::Validations(self), None));
        }
        if !self.failed.is_empty() {
            return Err(Refusal::Names(self.failed));
        }
        Ok((State::Finalize(Finalize { urls: self.urls, certificate_request: None }), None))
    }
}
