//! Waits until the CA has issued: asks the order until it is `valid` (RFC 8555 section 7.1.6).

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Download, MOST_POLLS, Next, Response, State, Want, next_poll, post_as_get};
use crate::acme::message::{Order, Problem, Refusal};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Issuance {
    pub order: String,
    pub polls: u32,
}

impl Issuance {
    pub(super) fn want(&self) -> Want {
        post_as_get(&self.order)
    }

    pub(super) fn handle(mut self, response: &Response, now: Timestamp) -> Next {
        const DURING: &str = "waiting for the certificate";
        let order: Order = response.read(DURING)?;
        match (order.status.as_str(), order.certificate) {
            ("valid", Some(url)) => Ok((State::Download(Download::of(url)), None)),
            ("invalid", _) => {
                let problem = order.error.unwrap_or_else(|| Problem {
                    detail: "the order became invalid, without a reason".into(),
                    ..Problem::default()
                });
                Err(Refusal::Problem { during: DURING.into(), problem, not_before: None })
            }
            _ => {
                self.polls += 1;
                if self.polls > MOST_POLLS {
                    return Err(Refusal::Slow { during: DURING.into(), polls: self.polls });
                }
                let wait = next_poll(response, self.polls, now);
                Ok((State::Issuance(self), wait))
            }
        }
    }
}
