//! Waits for the driver: the proofs must be where the CA will fetch them before the CA is told.

use serde::{Deserialize, Serialize};

use super::{Challenges, OrderUrls, State};
use crate::acme::message::Proof;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proofs {
    pub urls: OrderUrls,
    pub proofs: Vec<Proof>,
}

impl Proofs {
    pub(in crate::acme) fn placed(&self) -> State {
        State::Challenges(Challenges {
            urls: self.urls.clone(),
            to_answer: self.proofs.iter().map(|proof| proof.challenge_url.clone()).collect(),
            authorizations: self.proofs.iter().map(|proof| proof.authorization_url.clone()).collect(),
        })
    }
}
