//! After a request whose answer was lost: the CA may have done what it was asked for, so that the order itself is read before
//! anything is posted once more (RFC 8555 section 7.1.6).

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Authorizations, Finalize, Issuance, Next, OrderUrls, Response, State, Want, post_as_get};
use crate::acme::message::Order;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Review {
    pub urls: OrderUrls,
    /// The request that was made already, as [`Finalize`] has it.
    pub certificate_request: Option<String>,
}

impl Review {
    pub(super) fn want(&self) -> Want {
        post_as_get(&self.urls.order)
    }

    pub(super) fn handle(self, response: &Response, now: Timestamp) -> Next {
        let order: Order = response.read("reading the order")?;
        let Self { urls, certificate_request } = self;
        match order.status.as_str() {
            "pending" => {
                let to_read = order.authorizations;
                Ok((State::Authorizations(Authorizations { urls, to_read, proofs: vec![], watched: vec![] }), None))
            }
            "ready" => Ok((State::Finalize(Finalize { urls, certificate_request }), None)),
            // Under way, done, or come to nothing: as if it had been finalized just now.
            _ => Issuance { order: urls.order, polls: 0 }.handle(response, now),
        }
    }
}
