//! The states of an order, one file each: what each wants, and what it makes of the answer.

mod account;
mod authorizations;
mod challenges;
mod directory;
mod download;
mod finalize;
mod issuance;
mod new_order;
mod proofs;
mod review;
mod search;
mod validations;

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::machine::Known;
use super::message::{Directory, Proof, Refusal, Response};

pub use authorizations::Authorizations;
pub use challenges::Challenges;
pub use download::Download;
pub use finalize::Finalize;
pub use issuance::Issuance;
pub use proofs::Proofs;
pub use review::Review;
pub use search::Search;
pub use validations::Validations;

/// Named by what it waits for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    Directory,
    Account,
    NewOrder,
    Authorizations(Authorizations),
    Proofs(Proofs),
    Challenges(Challenges),
    Validations(Validations),
    Finalize(Finalize),
    Issuance(Issuance),
    Download(Download),
    Review(Review),
    Search(Search),
    Finished { chain_pem: String },
    Refused { refusal: Refusal },
}

/// The order that states carry along.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OrderUrls {
    pub order: String,
    pub finalize: String,
}

/// What a state wants to happen.
pub(super) enum Want {
    Get(String),
    Post { url: String, json: String },
    Proofs(Vec<Proof>),
    CertificateRequest,
    Nothing(Result<String, Refusal>),
}

/// The next state, and the time before which it should not act.
type Next = Result<(State, Option<Timestamp>), Refusal>;

impl State {
    /// The name for messages: what is going on.
    pub fn name(&self) -> &'static str {
        match self {
            State::Directory => "reading the directory",
            State::Account => "opening the account",
            State::NewOrder => "placing the order",
            State::Authorizations(_) => "reading the authorizations",
            State::Proofs(_) => "placing the proofs",
            State::Challenges(_) => "answering the challenges",
            State::Validations(_) => "waiting for the validation",
            State::Finalize(_) => "finalizing the order",
            State::Issuance(_) => "waiting for the certificate",
            State::Download(_) => "downloading the certificate",
            State::Review(_) => "reading the order",
            State::Search(_) => "looking for the order",
            State::Finished { .. } => "finished",
            State::Refused { .. } => "refused",
        }
    }

    pub(super) fn after_directory(directory: Directory, known: &mut Known) -> State {
        match directory::accept(directory, known) {
            Ok((state, _)) => state,
            Err(refusal) => State::Refused { refusal },
        }
    }

    /// What has to be read before the request of this state may be made once more: the CA may have taken it.
    pub(super) fn after_loss(&self, known: &Known) -> Option<State> {
        match self {
            State::NewOrder => known.account.as_ref().map(|_| State::Search(Search::Account)),
            State::Challenges(state) => {
                Some(State::Review(Review { urls: state.urls.clone(), certificate_request: None }))
            }
            State::Finalize(state) => state.certificate_request.as_ref().map(|request| {
                State::Review(Review { urls: state.urls.clone(), certificate_request: Some(request.clone()) })
            }),
            _ => None,
        }
    }

    pub(super) fn want(&self, known: &Known) -> Want {
        match self {
            State::Directory => directory::want(known),
            State::Account => account::want(known),
            State::NewOrder => new_order::want(known),
            State::Authorizations(state) => state.want(),
            State::Proofs(state) => Want::Proofs(state.proofs.clone()),
            State::Challenges(state) => state.want(),
            State::Validations(state) => state.want(),
            State::Finalize(state) => state.want(),
            State::Issuance(state) => state.want(),
            State::Download(state) => state.want(),
            State::Review(state) => state.want(),
            State::Search(state) => state.want(known),
            State::Finished { chain_pem } => Want::Nothing(Ok(chain_pem.clone())),
            State::Refused { refusal } => Want::Nothing(Err(refusal.clone())),
        }
    }

    pub(super) fn handle(self, response: &Response, known: &mut Known, now: Timestamp) -> Next {
        match self {
            State::Directory => directory::handle(response, known),
            State::Account => account::handle(response, known),
            State::NewOrder => new_order::handle(response),
            State::Authorizations(state) => state.handle(response, known),
            State::Challenges(state) => state.handle(now),
            State::Validations(state) => state.handle(response, known, now),
            State::Finalize(state) => state.handle(response, now),
            State::Issuance(state) => state.handle(response, now),
            State::Download(state) => state.handle(response, known),
            State::Review(state) => state.handle(response, now),
            State::Search(state) => state.handle(response, known),
            state @ (State::Proofs(_) | State::Finished { .. } | State::Refused { .. }) => Ok((state, None)),
        }
    }
}

pub(super) fn base64url(bytes: &[u8]) -> String {
    URL_SAFE_NO_PAD.encode(bytes)
}

fn post_as_get(url: &str) -> Want {
    Want::Post { url: url.to_string(), json: String::new() }
}

/// When to ask again: as the CA says, else after a pause that doubles each time.
fn next_poll(response: &Response, polls: u32, now: Timestamp) -> Option<Timestamp> {
    response.retry_after(now).or_else(|| now.checked_add(pause_before(polls)).ok())
}

/// Some CAs take milliseconds, some a minute: from 5 ms up to 5 seconds.
fn pause_before(polls: u32) -> SignedDuration {
    SignedDuration::from_millis(5 << polls.min(10)).min(SignedDuration::from_secs(5))
}

/// Polls before an order counts as stuck: with the longest pause, more than four minutes.
const MOST_POLLS: u32 = 60;
