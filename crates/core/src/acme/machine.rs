//! The machine: nonces, retries and bounds around the states.

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::identifier::{Identifier, identifiers};
use super::message::{Directory, Payload, Problem, Proof, Refusal, Request, Response, Signer};
use super::state::{State, Want};
use crate::certificate::ProofWish;
use crate::name::{Host, Hostname};

/// What is wanted, settled before the first step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Brief {
    pub directory_url: String,
    pub names: Vec<Host>,
    /// Names with `*.` before them in the certificate.
    #[serde(default)]
    pub wildcards: Vec<Hostname>,
    /// How control is proven.
    #[serde(default)]
    pub proof: ProofWish,
    /// A mailbox, without `mailto:`.
    pub contact: Option<String>,
    pub terms_accepted: bool,
    /// The thumbprint of the account key (RFC 7638), base64url.
    pub thumbprint: String,
    /// The identifier of the external account that a new account is bound to (section 7.3.4). Its key is the driver's.
    #[serde(default)]
    pub external_account: Option<String>,
    /// A part of the name of the issuer that the chain should end with, where the CA offers several chains.
    #[serde(default)]
    pub preferred_chain: Option<String>,
    /// The certificate that this one is to take the place of (RFC 9773 section 5).
    #[serde(default)]
    pub replaces: Option<String>,
    /// The kind of certificate, by the CA's own name for it (draft-ietf-acme-profiles).
    #[serde(default)]
    pub profile: Option<String>,
    /// Whether the certificate is to demand its CA's statement in each handshake (RFC 7633).
    #[serde(default)]
    pub stapled: bool,
}

impl Brief {
    /// What the order names.
    pub fn identifiers(&self) -> Vec<Identifier> {
        identifiers(&self.names, &self.wildcards)
    }
}

/// What the driver does next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    Send(Request),
    /// Put the proofs where the CA will look, then call [`Machine::proofs_placed`].
    PlaceProofs(Vec<Proof>),
    WaitUntil(Timestamp),
    /// Make a key and a certificate request for the names, then call [`Machine::request_made`].
    MakeRequest(Vec<Identifier>),
    Finished {
        chain_pem: String,
    },
    Refused(Refusal),
}

/// One order on its way, savable at any point.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Machine {
    pub(super) known: Known,
    pub(super) state: State,
    /// Answers that were errors of the moment, since the last good one.
    setbacks: u32,
    not_before: Option<Timestamp>,
    /// How often the answer to something that must not be asked for twice was lost.
    #[serde(default)]
    lost: u32,
    #[serde(skip)]
    nonces: Vec<String>,
    /// Whether the last request was for a nonce alone.
    #[serde(skip)]
    asked_for_nonce: bool,
    /// The directory was read by another order, perhaps long ago.
    #[serde(skip)]
    directory_is_old: bool,
}

/// What all states share.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Known {
    pub brief: Brief,
    pub directory: Option<Directory>,
    pub account: Option<String>,
}

/// A CA that refuses a nonce now and then is in order; one that is down is left to the next run after a few seconds.
const MOST_NONCES_REFUSED: u32 = 8;
const MOST_FAILURES: u32 = 4;
/// After so many lost answers in one order the request itself is made again, and no more is read before it.
const MOST_LOST: u32 = 8;

impl Machine {
    /// A new order. `account` is the account's URL where one is known for the key.
    pub fn new(brief: Brief, account: Option<String>) -> Self {
        Self {
            known: Known { brief, directory: None, account },
            state: State::Directory,
            setbacks: 0,
            not_before: None,
            lost: 0,
            nonces: vec![],
            asked_for_nonce: false,
            directory_is_old: false,
        }
    }

    /// With a directory that was read before: one request less. If its URLs turn out to be gone, it is read anew.
    pub fn with_directory(mut self, directory: Directory) -> Self {
        if matches!(self.state, State::Directory) {
            self.state = State::after_directory(directory, &mut self.known);
            self.directory_is_old = true;
        }
        self
    }

    /// The directory, once it has been read.
    pub fn directory(&self) -> Option<&Directory> {
        self.known.directory.as_ref()
    }

    pub fn has_nonce(&self) -> bool {
        !self.nonces.is_empty()
    }

    /// A nonce that another order of the same account has left.
    pub fn lend(&mut self, nonces: impl IntoIterator<Item = String>) {
        self.nonces.extend(nonces);
    }

    /// The nonces that are left, for another order.
    pub fn spare_nonces(&mut self) -> Vec<String> {
        std::mem::take(&mut self.nonces)
    }

    /// The account's URL once the CA has said it; to be kept beside the key.
    pub fn account(&self) -> Option<&str> {
        self.known.account.as_deref()
    }

    /// Whether what was read back can be continued: a file that somebody has edited may not be.
    pub fn is_sound(&self) -> bool {
        matches!(self.state, State::Directory) || self.known.directory.is_some()
    }

    pub fn state(&self) -> &State {
        &self.state
    }

    pub fn brief(&self) -> &Brief {
        &self.known.brief
    }

    /// What to do next, at `now`.
    pub fn next(&mut self, now: Timestamp) -> Step {
        if let Some(until) = self.not_before.filter(|until| *until > now) {
            return Step::WaitUntil(until);
        }
        match self.state.want(&self.known) {
            Want::Get(url) => Step::Send(Request { url, payload: Payload::Get }),
            Want::Post { url, json } => self.signed(url, json),
            Want::Proofs(proofs) => Step::PlaceProofs(proofs),
            Want::CertificateRequest => Step::MakeRequest(self.known.brief.identifiers()),
            Want::Nothing(Ok(chain_pem)) => Step::Finished { chain_pem },
            Want::Nothing(Err(refusal)) => Step::Refused(refusal),
        }
    }

    fn signed(&mut self, url: String, json: String) -> Step {
        let Some(nonce) = self.nonces.pop() else {
            self.asked_for_nonce = true;
            let url = self.known.directory.as_ref().expect("signed states follow the directory").new_nonce.clone();
            return Step::Send(Request { url, payload: Payload::Head });
        };
        let signer = match (&self.state, &self.known.account) {
            (State::Account, _) | (_, None) => Signer::NewKey,
            (_, Some(account)) => Signer::Account(account.clone()),
        };
        let binding = match self.state {
            State::Account => self.known.brief.external_account.clone(),
            _ => None,
        };
        Step::Send(Request { url, payload: Payload::Signed { json, signer, nonce, binding } })
    }

    /// Takes the answer to the request that [`Machine::next`] gave last.
    pub fn received(&mut self, response: &Response, now: Timestamp) {
        self.not_before = None;
        let asked_for_nonce = std::mem::take(&mut self.asked_for_nonce);
        if let Some(nonce) = &response.nonce {
            self.nonces.push(nonce.clone());
        }
        if asked_for_nonce && response.is_success() {
            if self.nonces.is_empty() {
                self.failed("no Replay-Nonce field where a nonce was asked for", now);
            }
            return;
        }
        if !response.is_success() {
            return self.setback(response, now);
        }
        self.setbacks = 0;
        let state = std::mem::replace(&mut self.state, State::Directory);
        match state.handle(response, &mut self.known, now) {
            Ok((state, wait)) => {
                self.state = state;
                self.not_before = wait;
            }
            Err(refusal) => self.state = State::Refused { refusal },
        }
    }

    /// The network, not the CA, has failed: counts as a setback.
    pub fn failed(&mut self, reason: &str, now: Timestamp) {
        self.nonces.clear();
        self.asked_for_nonce = false;
        let refusal = Refusal::Silent { during: self.state.name().into(), what: reason.to_string(), not_before: None };
        self.count_setback(refusal, Some(self.setbacks), now);
        self.look_again();
    }

    /// The answer to the last request is not known, after a failure or in another run: what it may have done is read before
    /// it is made once more.
    pub fn look_again(&mut self) {
        if self.lost < MOST_LOST
            && let Some(state) = self.state.after_loss(&self.known)
        {
            self.lost += 1;
            self.state = state;
        }
    }

    fn setback(&mut self, response: &Response, now: Timestamp) {
        let during = self.state.name().to_string();
        let problem: Problem = serde_json::from_slice(&response.body).unwrap_or_default();
        if matches!(response.status, 404 | 405) && std::mem::take(&mut self.directory_is_old) {
            self.known.directory = None;
            self.state = State::Directory;
            return;
        }
        let until = response.retry_after(now);
        let of_the_moment = problem.word() == "badNonce" || (response.status >= 500 && until.is_none());
        // An account that the CA has forgotten is made again with the same key (section 7.3.1).
        if problem.word() == "accountDoesNotExist" && self.known.account.take().is_some() {
            self.state = State::Account;
            return;
        }
        // A killed run may have finalized already: then the order itself says how it stands.
        if let (State::Finalize(waiting), "orderNotReady") = (&self.state, problem.word()) {
            self.state = State::Issuance(super::state::Issuance { order: waiting.urls.order.clone(), polls: 0 });
            return;
        }
        // What is to be replaced has a successor already, or the CA has forgotten it: it is a hint, and no more.
        if matches!(self.state, State::NewOrder)
            && matches!(problem.word(), "alreadyReplaced" | "malformed")
            && self.known.brief.replaces.take().is_some()
        {
            return;
        }
        let refusal = if response.status >= 500 {
            let detail = if problem.detail.is_empty() { String::new() } else { format!(": {}", problem.detail) };
            Refusal::Silent { during, what: format!("status {}{detail}", response.status), not_before: until }
        } else if response.status == 429 && problem.kind.is_empty() {
            // To a question for a nonce, or from what stands before the CA: there is no word of the CA's own.
            let problem = Problem {
                kind: "urn:ietf:params:acme:error:rateLimited".into(),
                detail: "too many requests".into(),
                ..Problem::default()
            };
            Refusal::Problem { during, problem, not_before: until }
        } else if problem.kind.is_empty() {
            Refusal::Unexpected { during, what: format!("status {}", response.status) }
        } else {
            Refusal::Problem { during, problem: problem.clone(), not_before: until }
        };
        // A list of orders is a service of some CAs.
        if matches!(self.state, State::Search(_)) && problem.word() != "badNonce" && response.status < 500 {
            self.state = State::NewOrder;
            return;
        }
        if of_the_moment {
            // A refused nonce costs nothing but a round; a server in trouble gets a growing pause.
            let pause = if problem.word() == "badNonce" { None } else { Some(self.setbacks) };
            self.count_setback(refusal, pause, now);
            if pause.is_some() {
                self.look_again();
            }
        } else {
            self.state = State::Refused { refusal };
        }
    }

    fn count_setback(&mut self, refusal: Refusal, pause: Option<u32>, now: Timestamp) {
        self.setbacks += 1;
        let most = if pause.is_some() { MOST_FAILURES } else { MOST_NONCES_REFUSED };
        if self.setbacks > most {
            self.state = State::Refused { refusal };
        } else if let Some(step) = pause {
            self.not_before = now.checked_add(SignedDuration::from_millis(300 << step.min(6))).ok();
        }
    }

    /// The proofs that [`Step::PlaceProofs`] named can be fetched now.
    pub fn proofs_placed(&mut self) {
        if let State::Proofs(waiting) = &self.state {
            self.state = waiting.placed();
        }
    }

    /// The certificate request that [`Step::MakeRequest`] asked for, DER.
    pub fn request_made(&mut self, der: &[u8]) {
        if let State::Finalize(waiting) = &mut self.state {
            waiting.certificate_request = Some(super::state::base64url(der));
        }
    }
}
