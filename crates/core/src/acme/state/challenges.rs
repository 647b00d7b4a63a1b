//! Tells the CA, challenge by challenge, that the proof is in place (RFC 8555 section 7.5.1).

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Next, OrderUrls, State, Validations, Want, pause_before};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Challenges {
    pub urls: OrderUrls,
    /// The challenge URLs that are still to be answered.
    pub to_answer: Vec<String>,
    pub authorizations: Vec<String>,
}

impl Challenges {
    pub(super) fn want(&self) -> Want {
        Want::Post { url: self.to_answer.first().cloned().unwrap_or_default(), json: "{}".into() }
    }

    pub(super) fn handle(mut self, now: Timestamp) -> Next {
        self.to_answer.remove(0);
        if !self.to_answer.is_empty() {
            return Ok((State::Challenges(self), None));
        }
        let state = Validations { urls: self.urls, to_watch: self.authorizations, failed: vec![], polls: 0 };
        Ok((State::Validations(state), now.checked_add(pause_before(0)).ok()))
    }
}
