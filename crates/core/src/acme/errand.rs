//! One signed request to a CA beside its orders, as a machine without I/O: revoking a certificate (RFC 8555 section 7.6),
//! changing the account's key (7.3.5), its contact (7.3.2), and closing it (7.3.6). Directory, nonce, the request itself:
//! it is short enough that it is not saved; begun anew, it does no harm.

use serde::{Deserialize, Serialize};
use serde_json::json;

use super::state::base64url;
use super::{Payload, Problem, Request, Response, Signer};

/// Why a certificate is revoked (RFC 5280 section 5.3.1).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RevocationReason {
    Unspecified = 0,
    KeyCompromise = 1,
    AffiliationChanged = 3,
    Superseded = 4,
    CessationOfOperation = 5,
}

impl RevocationReason {
    pub fn word(self) -> &'static str {
        match self {
            RevocationReason::Unspecified => "unspecified",
            RevocationReason::KeyCompromise => "key-compromise",
            RevocationReason::AffiliationChanged => "affiliation-changed",
            RevocationReason::Superseded => "superseded",
            RevocationReason::CessationOfOperation => "cessation-of-operation",
        }
    }
}

/// What is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Task {
    /// Of a certificate, DER, which the account has had issued.
    Revoke { der: Vec<u8>, reason: RevocationReason },
    /// Another key for the account.
    ChangeKey,
    /// Another mailbox; none: none.
    SetContact(Option<String>),
    /// No new orders from then on, for ever.
    Deactivate,
}

/// What the driver is to do next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ErrandStep {
    Send(Request),
    /// Sign with the new key that the account is to have it (section 7.3.5), for this URL; then call
    /// [`Errand::change_signed`].
    SignChange {
        url: String,
    },
    Done,
    /// In the CA's own words.
    Refused(String),
    /// The CA is out of order: it is tried again later.
    OutOfOrder {
        status: u16,
    },
}

/// The way of one errand.
#[derive(Debug, Clone)]
pub struct Errand {
    directory_url: String,
    account: String,
    task: Task,
    /// The request that the new key has signed.
    signed_change: Option<String>,
    endpoints: Option<Endpoints>,
    nonce: Option<String>,
    ended: Option<Result<(), Ended>>,
    tries: u32,
}

#[derive(Debug, Clone, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Endpoints {
    new_nonce: String,
    #[serde(default)]
    revoke_cert: String,
    #[serde(default)]
    key_change: String,
}

#[derive(Debug, Clone)]
enum Ended {
    Refused(String),
    OutOfOrder(u16),
}

/// A CA that refuses each nonce must not hold us for ever.
const MOST_TRIES: u32 = 8;

impl Errand {
    /// For the account with this URL.
    pub fn new(directory_url: &str, account: &str, task: Task) -> Self {
        let (directory_url, account) = (directory_url.to_string(), account.to_string());
        let (signed_change, endpoints, nonce, ended) = (None, None, None, None);
        Self { directory_url, account, task, signed_change, endpoints, nonce, ended, tries: 0 }
    }

    pub fn next(&self) -> ErrandStep {
        match (&self.ended, &self.endpoints, &self.nonce) {
            (Some(Ok(())), ..) => ErrandStep::Done,
            (Some(Err(Ended::Refused(why))), ..) => ErrandStep::Refused(why.clone()),
            (Some(Err(Ended::OutOfOrder(status))), ..) => ErrandStep::OutOfOrder { status: *status },
            (None, None, _) => ErrandStep::Send(Request { url: self.directory_url.clone(), payload: Payload::Get }),
            (None, Some(endpoints), _) if self.task == Task::ChangeKey && self.signed_change.is_none() => {
                ErrandStep::SignChange { url: endpoints.key_change.clone() }
            }
            (None, Some(endpoints), None) => {
                ErrandStep::Send(Request { url: endpoints.new_nonce.clone(), payload: Payload::Head })
            }
            (None, Some(endpoints), Some(nonce)) => ErrandStep::Send(Request {
                url: self.url(endpoints).to_string(),
                payload: Payload::Signed {
                    json: self.payload(),
                    signer: Signer::Account(self.account.clone()),
                    nonce: nonce.clone(),
                    binding: None,
                },
            }),
        }
    }

    fn url<'a>(&'a self, endpoints: &'a Endpoints) -> &'a str {
        match self.task {
            Task::Revoke { .. } => &endpoints.revoke_cert,
            Task::ChangeKey => &endpoints.key_change,
            Task::SetContact(_) | Task::Deactivate => &self.account,
        }
    }

    fn payload(&self) -> String {
        match &self.task {
            Task::Revoke { der, reason } => {
                json!({ "certificate": base64url(der), "reason": *reason as u8 }).to_string()
            }
            Task::ChangeKey => self.signed_change.clone().unwrap_or_default(),
            Task::SetContact(contact) => {
                let contact: Vec<String> = contact.iter().map(|mailbox| format!("mailto:{mailbox}")).collect();
                json!({ "contact": contact }).to_string()
            }
            Task::Deactivate => json!({ "status": "deactivated" }).to_string(),
        }
    }

    /// What [`ErrandStep::SignChange`] asked for: a flattened JWS.
    pub fn change_signed(&mut self, jws: String) {
        self.signed_change = Some(jws);
    }

    /// Takes the answer to what [`Errand::next`] had sent.
    pub fn received(&mut self, response: &Response) {
        self.tries += 1;
        // RFC 9110 section 15.6: the fault is the server's, whatever was asked.
        if response.status >= 500 {
            self.ended = Some(Err(Ended::OutOfOrder(response.status)));
            return;
        }
        let refused = |why: String| Some(Err(Ended::Refused(why)));
        let asked_for_nonce = self.endpoints.is_some() && self.nonce.is_none();
        if self.endpoints.is_none() {
            match serde_json::from_slice::<Endpoints>(&response.body) {
                Ok(endpoints) if self.url(&endpoints).is_empty() => self.ended = refused(self.not_offered().into()),
                Ok(endpoints) => self.endpoints = Some(endpoints),
                Err(error) => self.ended = refused(format!("its directory cannot be read: {error}")),
            }
            return;
        }
        // Each answer brings the next nonce (section 6.5).
        self.nonce = response.nonce.clone();
        if asked_for_nonce {
            if self.nonce.is_none() {
                self.ended = refused("the CA gives no nonce".into());
            }
            return;
        }
        if response.is_success() {
            self.ended = Some(Ok(()));
            return;
        }
        let problem: Problem = serde_json::from_slice(&response.body).unwrap_or_default();
        match problem.word() {
            "badNonce" if self.tries < MOST_TRIES => {}
            "alreadyRevoked" => self.ended = Some(Ok(())),
            word => {
                let detail = if problem.detail.is_empty() {
                    format!("status {}", response.status)
                } else {
                    problem.detail.clone()
                };
                self.ended = refused(format!("{detail} ({word})"));
            }
        }
    }

    fn not_offered(&self) -> &'static str {
        match self.task {
            Task::Revoke { .. } => "the CA offers no revocation",
            Task::ChangeKey => "the CA offers no change of keys",
            Task::SetContact(_) | Task::Deactivate => "the account has no URL",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const DIRECTORY: &str =
        r#"{"newNonce":"https://ca.example/nonce","revokeCert":"https://ca.example/revoke","newOrder":"x"}"#;

    fn answer(status: u16, nonce: &str, body: &str) -> Response {
        Response { status, nonce: Some(nonce.into()), body: body.into(), ..Response::default() }
    }

    fn begun() -> Errand {
        let task = Task::Revoke { der: vec![1, 2, 3], reason: RevocationReason::KeyCompromise };
        let mut made = Errand::new("https://ca.example/dir", "https://ca.example/1", task);
        assert!(matches!(made.next(), ErrandStep::Send(Request { payload: Payload::Get, .. })));
        made.received(&answer(200, "", DIRECTORY));
        assert!(matches!(made.next(), ErrandStep::Send(Request { payload: Payload::Head, .. })));
        made.received(&answer(200, "n1", ""));
        made
    }

    fn nonce_of(made: &Errand) -> String {
        match made.next() {
            ErrandStep::Send(Request { url, payload: Payload::Signed { json, nonce, signer, .. } }) => {
                assert_eq!(
                    (url.as_str(), json.as_str()),
                    ("https://ca.example/revoke", r#"{"certificate":"AQID","reason":1}"#)
                );
                assert_eq!(signer, Signer::Account("https://ca.example/1".into()));
                nonce
            }
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn directory_nonce_request() {
        let mut made = begun();
        assert_eq!(nonce_of(&made), "n1");
        made.received(&answer(400, "n2", r#"{"type":"urn:ietf:params:acme:error:badNonce"}"#));
        assert_eq!(nonce_of(&made), "n2");
        made.received(&answer(200, "n3", ""));
        assert_eq!(made.next(), ErrandStep::Done);
    }

    #[test]
    fn what_a_ca_may_say_instead() {
        let said = |status, body: &str| {
            let mut made = begun();
            made.received(&answer(status, "n2", body));
            made.next()
        };
        assert_eq!(said(400, r#"{"type":"urn:ietf:params:acme:error:alreadyRevoked"}"#), ErrandStep::Done);
        let refused = said(403, r#"{"type":"urn:ietf:params:acme:error:unauthorized","detail":"not yours"}"#);
        assert_eq!(refused, ErrandStep::Refused("not yours (unauthorized)".into()));
        let mut out = begun();
        out.received(&answer(503, "n2", "<h1>Busy</h1>"));
        assert_eq!(out.next(), ErrandStep::OutOfOrder { status: 503 });
        let mut endless = begun();
        for _ in 0..20 {
            endless.received(&answer(400, "n", r#"{"type":"urn:ietf:params:acme:error:badNonce"}"#));
        }
        assert!(matches!(endless.next(), ErrandStep::Refused(_)));
        let mut bare = Errand::new("d", "a", Task::Revoke { der: vec![], reason: RevocationReason::Superseded });
        bare.received(&answer(200, "", r#"{"newNonce":"n"}"#));
        assert_eq!(bare.next(), ErrandStep::Refused("the CA offers no revocation".into()));
    }

    #[test]
    fn the_account_itself_is_changed_at_its_own_url_and_its_key_at_the_cas() {
        let sent = |task: Task| {
            let mut made = Errand::new("https://ca.example/dir", "https://ca.example/1", task);
            made.received(&answer(200, "", &DIRECTORY.replace('{', r#"{"keyChange":"https://ca.example/key","#)));
            if let ErrandStep::SignChange { url } = made.next() {
                assert_eq!(url, "https://ca.example/key");
                made.change_signed("signed by the new key".into());
            }
            made.received(&answer(200, "n1", ""));
            match made.next() {
                ErrandStep::Send(Request { url, payload: Payload::Signed { json, .. } }) => (url, json),
                other => panic!("{other:?}"),
            }
        };
        let at_account = |json: &str| ("https://ca.example/1".to_string(), json.to_string());
        assert_eq!(sent(Task::Deactivate), at_account(r#"{"status":"deactivated"}"#));
        let mailbox = Some("crew@saltmarsh.example".to_string());
        assert_eq!(sent(Task::SetContact(mailbox)), at_account(r#"{"contact":["mailto:crew@saltmarsh.example"]}"#));
        assert_eq!(sent(Task::SetContact(None)), at_account(r#"{"contact":[]}"#));
        assert_eq!(sent(Task::ChangeKey), ("https://ca.example/key".into(), "signed by the new key".into()));
        let mut made = Errand::new("d", "a", Task::ChangeKey);
        made.received(&answer(200, "", DIRECTORY));
        assert_eq!(made.next(), ErrandStep::Refused("the CA offers no change of keys".into()));
    }
}
