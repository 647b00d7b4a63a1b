//! Waits for the driver: the proofs must be where the CA will fetch them before the CA is told.

use serde::{Deserialize, Serialize};

use super::{Challenges, OrderUrls, State};
use crate::acme::message::Proof;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proofs {
    pub urls: OrderUrls,
    pub proofs: Vec<Proof>,
    /// Authorizations that the CA is at already.
    #[serde(default)]
    pub watched: Vec<String>,
}

impl Proofs {
    pub(in crate::acme) fn placed(&self) -> State {
        State::Challenges(Challenges {
            urls: self.urls.clone(),
            to_answer: self.proofs.iter().map(|proof| proof.challenge_url.clone()).collect(),
            authorizations: {
                let told = self.proofs.iter().map(|proof| proof.authorization_url.clone());
                told.chain(self.watched.iter().cloned()).collect()
            },
        })
    }
}
