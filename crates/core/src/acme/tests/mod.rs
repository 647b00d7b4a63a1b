//! The machine against a script of answers: one file a state, and this file with what they share.

mod account;
mod authorizations;
mod challenges;
mod directory;
mod download;
mod finalize;
mod issuance;
mod lost;
mod new_order;
mod nonces;
mod proofs;
mod resume;
mod validations;

use jiff::{SignedDuration, Timestamp};

use super::{Brief, Machine, Payload, ProofKind, Refusal, Request, Response, Signer, Step};
use crate::certificate::ProofWish;
use crate::name::Host;

/// A conversation in the making: the machine, the time, and a fresh nonce for every answer.
pub(super) struct Talk {
    pub machine: Machine,
    pub now: Timestamp,
    nonces: u32,
}

pub(super) fn brief() -> Brief {
    Brief {
        directory_url: "https://ca.example/directory".into(),
        names: ["gullrock.example", "www.gullrock.example"].map(|name| Host::parse(name).unwrap()).to_vec(),
        contact: Some("hostmaster@saltmarsh.example".into()),
        terms_accepted: true,
        wildcards: vec![],
        proof: ProofWish::Fitting,
        thumbprint: "THUMB".into(),
        external_account: None,
        preferred_chain: None,
        profile: None,
        stapled: false,
        replaces: None,
    }
}

impl Talk {
    pub fn new(account: Option<&str>) -> Self {
        Self::about(brief(), account)
    }

    pub fn about(brief: Brief, account: Option<&str>) -> Self {
        Self {
            machine: Machine::new(brief, account.map(String::from)),
            now: "2026-11-23T07:00:00Z".parse().unwrap(),
            nonces: 0,
        }
    }

    /// The next request, waiting first where the machine wants to.
    #[track_caller]
    pub fn request(&mut self) -> Request {
        for _ in 0..3 {
            match self.machine.next(self.now) {
                Step::Send(request) => return request,
                Step::WaitUntil(until) => self.now = until,
                other => panic!("{other:?}"),
            }
        }
        panic!("it waits and waits");
    }

    /// The next signed request as (URL, payload); nonces that are asked for are given.
    #[track_caller]
    pub fn post(&mut self) -> (String, String) {
        let request = self.request();
        match request.payload {
            Payload::Head => {
                assert_eq!(request.url, "https://ca.example/nonce");
                self.answer(200, "");
                self.post()
            }
            Payload::Signed { json, .. } => (request.url, json),
            Payload::Get => panic!("an unsigned GET of {}", request.url),
        }
    }

    pub fn answer(&mut self, status: u16, body: &str) {
        self.answer_with(status, body, |_| ());
    }

    pub fn answer_at(&mut self, status: u16, location: &str, body: &str) {
        self.answer_with(status, body, |response| response.location = Some(location.into()));
    }

    pub fn answer_with(&mut self, status: u16, body: &str, change: impl FnOnce(&mut Response)) {
        self.nonces += 1;
        let nonce = Some(format!("nonce{}", self.nonces));
        let mut response = Response { status, nonce, body: body.as_bytes().to_vec(), ..Response::default() };
        change(&mut response);
        self.machine.received(&response, self.now);
    }

    #[track_caller]
    pub fn refusal(&mut self) -> Refusal {
        match self.machine.next(self.now) {
            Step::Refused(refusal) => refusal,
            other => panic!("{other:?}"),
        }
    }

    /// Up to the new order, with an account that is known.
    pub fn ordered(status: &str) -> Self {
        Self::ordered_for(brief(), status)
    }

    pub fn ordered_for(brief: Brief, status: &str) -> Self {
        let mut talk = Self::about(brief, Some("https://ca.example/account/1"));
        talk.request();
        talk.answer(200, DIRECTORY);
        talk.post();
        talk.answer_at(201, "https://ca.example/order/1", &order(status, ""));
        talk
    }

    /// Up to the proofs.
    pub fn with_proofs() -> Self {
        let mut talk = Self::ordered("pending");
        for number in [1, 2] {
            talk.post();
            talk.answer(200, &authorization(number, "pending"));
        }
        talk
    }

    /// Up to the validations.
    pub fn answered() -> Self {
        let mut talk = Self::with_proofs();
        let Step::PlaceProofs(_) = talk.machine.next(talk.now) else { panic!("no proofs") };
        talk.machine.proofs_placed();
        for _ in 0..2 {
            talk.post();
            talk.answer(200, "{}");
        }
        talk
    }

    /// Up to the request for a certificate, made.
    pub fn finalizing() -> Self {
        let mut talk = Self::ordered("ready");
        let Step::MakeRequest(_) = talk.machine.next(talk.now) else { panic!("no request") };
        talk.machine.request_made(b"\xff\xfe");
        talk
    }
}

pub(super) const DIRECTORY: &str = r#"{ "newNonce": "https://ca.example/nonce", "newAccount":
    "https://ca.example/account", "newOrder": "https://ca.example/order", "meta": { "termsOfService": "https://ca.example/terms" } }"#;

pub(super) fn order(status: &str, more: &str) -> String {
    format!(
        r#"{{ "status": "{status}", "finalize": "https://ca.example/finalize/1",
        "authorizations": ["https://ca.example/authorization/1", "https://ca.example/authorization/2"] {more} }}"#
    )
}

pub(super) fn authorization(number: u32, status: &str) -> String {
    let name = if number == 1 { "gullrock.example" } else { "www.gullrock.example" };
    format!(
        r#"{{ "status": "{status}", "identifier": {{ "type": "dns", "value": "{name}" }}, "challenges": [
        {{ "type": "dns-01", "url": "https://ca.example/challenge/9", "token": "other" }},
        {{ "type": "http-01", "url": "https://ca.example/challenge/{number}", "token": "token-{number}" }} ] }}"#
    )
}

pub(super) fn problem(word: &str, detail: &str) -> String {
    format!(r#"{{ "type": "urn:ietf:params:acme:error:{word}", "detail": "{detail}" }}"#)
}

/// Seconds from the moment that the talk began.
pub(super) fn after(talk: &Talk, seconds: i64) -> Timestamp {
    talk.now.checked_add(SignedDuration::from_secs(seconds)).unwrap()
}

pub(super) fn signer(request: &Request) -> &Signer {
    match &request.payload {
        Payload::Signed { signer, .. } => signer,
        other => panic!("{other:?}"),
    }
}
