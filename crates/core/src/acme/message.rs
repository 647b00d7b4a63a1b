//! What goes over the wire: requests to be signed and sent, responses, and the JSON objects of RFC 8555 section 7.1.

use std::collections::BTreeMap;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::identifier::Identifier;

/// A request for the driver to sign and send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Request {
    pub url: String,
    pub payload: Payload,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Payload {
    /// An unsigned GET: the directory.
    Get,
    /// An unsigned HEAD: a fresh nonce (section 7.2).
    Head,
    /// A signed POST (section 6.2). An empty text is a POST-as-GET (section 6.3).
    ///
    /// With `binding`, the driver adds the proof that the external account of that identifier is ours (section 7.3.4).
    Signed { json: String, signer: Signer, nonce: String, binding: Option<String> },
}

/// How the account key is named in the signature.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Signer {
    /// By itself: only for a new account.
    NewKey,
    /// By the account's URL.
    Account(String),
}

/// What came back.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Response {
    pub status: u16,
    pub location: Option<String>,
    pub nonce: Option<String>,
    /// The Retry-After field as sent.
    pub retry_after: Option<String>,
    /// The URLs of Link fields with the relation `alternate` (section 7.4.2).
    pub alternates: Vec<String>,
    /// The URL of the Link field with the relation `next`: more of a list (section 7.1.2.1).
    pub next: Option<String>,
    pub body: Vec<u8>,
}

impl Response {
    pub fn is_success(&self) -> bool {
        (200..300).contains(&self.status)
    }

    /// The time that Retry-After names: seconds from now, or a date (RFC 9110 section 10.2.3).
    pub fn retry_after(&self, now: Timestamp) -> Option<Timestamp> {
        let text = self.retry_after.as_deref()?.trim();
        if let Ok(seconds) = text.parse::<u32>() {
            return now.checked_add(jiff::SignedDuration::from_secs(i64::from(seconds))).ok();
        }
        jiff::fmt::rfc2822::parse(text).ok().map(|zoned| zoned.timestamp())
    }

    pub(super) fn read<T: for<'a> Deserialize<'a>>(&self, during: &'static str) -> Result<T, Refusal> {
        serde_json::from_slice(&self.body).map_err(|error| Refusal::Unexpected {
            during: during.into(),
            what: format!("an answer (status {}) that cannot be read: {error}", self.status),
        })
    }
}

/// The directory (section 7.1.1).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct Directory {
    pub new_nonce: String,
    pub new_account: String,
    pub new_order: String,
    #[serde(default)]
    pub renewal_info: Option<String>,
    #[serde(default)]
    pub meta: DirectoryMeta,
}

impl Directory {
    /// The hosts of its URLs that are not that of the directory itself: no fault, but for a person to know.
    pub fn other_hosts(&self, directory_url: &str) -> Vec<String> {
        let host = |text: &str| url::Url::parse(text).ok().and_then(|url| url.host_str().map(String::from));
        let own = host(directory_url);
        let all = [Some(&self.new_nonce), Some(&self.new_account), Some(&self.new_order), self.renewal_info.as_ref()];
        let mut others: Vec<String> = all.into_iter().flatten().filter_map(|url| host(url)).collect();
        others.retain(|other| Some(other) != own.as_ref());
        others.sort();
        others.dedup();
        others
    }

    /// A URL that is not https (RFC 8555 section 6.1), if there is one.
    pub fn unencrypted(&self) -> Option<&str> {
        let all = [Some(&self.new_nonce), Some(&self.new_account), Some(&self.new_order), self.renewal_info.as_ref()];
        all.into_iter().flatten().map(String::as_str).find(|url| !url.starts_with("https://"))
    }
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub struct DirectoryMeta {
    pub terms_of_service: Option<String>,
    #[serde(default)]
    pub external_account_required: bool,
    /// The names that it goes by in CAA records (RFC 8659).
    #[serde(default)]
    pub caa_identities: Vec<String>,
    /// The kinds of certificates that it offers (draft-ietf-acme-profiles, section 3): name and description.
    #[serde(default, deserialize_with = "profiles")]
    pub profiles: BTreeMap<String, String>,
}

/// A draft may change: whatever else stands there is no profile, and no reason to order nothing.
fn profiles<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<BTreeMap<String, String>, D::Error> {
    let read = serde_json::Value::deserialize(deserializer)?;
    let named = read.as_object().into_iter().flatten();
    Ok(named.filter_map(|(name, what)| Some((name.clone(), what.as_str()?.to_string()))).collect())
}

/// An order (section 7.1.3).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub(super) struct Order {
    pub status: String,
    #[serde(default)]
    pub authorizations: Vec<String>,
    pub finalize: String,
    pub certificate: Option<String>,
    pub error: Option<Problem>,
    #[serde(default)]
    pub identifiers: Vec<AuthorizedIdentifier>,
}

/// What is read of an account (section 7.1.2).
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub(super) struct AccountObject {
    /// Where its orders are listed, if they are.
    pub orders: Option<String>,
}

/// The orders of an account (section 7.1.2.1).
#[derive(Debug, Clone, Default, PartialEq, Eq, Deserialize)]
pub(super) struct OrderList {
    #[serde(default)]
    pub orders: Vec<String>,
}

/// An authorization (section 7.1.4).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub(super) struct Authorization {
    pub status: String,
    pub identifier: AuthorizedIdentifier,
    #[serde(default)]
    pub wildcard: bool,
    #[serde(default)]
    pub challenges: Vec<Challenge>,
}

#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub(super) struct AuthorizedIdentifier {
    pub value: String,
}

/// A challenge (section 8).
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
pub(super) struct Challenge {
    #[serde(rename = "type")]
    pub kind: String,
    pub url: String,
    #[serde(default)]
    pub token: String,
    /// `processing` once the CA was told of the proof (section 7.1.6).
    #[serde(default)]
    pub status: String,
    pub error: Option<Problem>,
}

/// A problem document (section 6.7, RFC 9457).
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    #[serde(rename = "type", default)]
    pub kind: String,
    #[serde(default)]
    pub detail: String,
    #[serde(default)]
    pub subproblems: Vec<Subproblem>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Subproblem {
    #[serde(default)]
    pub detail: String,
    pub identifier: Option<SubproblemIdentifier>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SubproblemIdentifier {
    pub value: String,
}

impl Problem {
    /// The last part of its type: `badNonce`, `rateLimited`.
    pub fn word(&self) -> &str {
        self.kind.rsplit(':').next().unwrap_or_default()
    }
}

/// Where the CA looks for a proof.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProofKind {
    /// A file at the web server (section 8.3).
    Http01,
    /// A TXT record (section 8.4).
    Dns01,
    /// A certificate that is shown in a handshake (RFC 8737).
    TlsAlpn01,
}

impl ProofKind {
    /// The challenge type that is its name on the wire.
    pub fn word(self) -> &'static str {
        match self {
            ProofKind::Http01 => "http-01",
            ProofKind::Dns01 => "dns-01",
            ProofKind::TlsAlpn01 => "tls-alpn-01",
        }
    }
}

/// What proves control of a name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Proof {
    pub kind: ProofKind,
    pub identifier: Identifier,
    /// The name of the file, for http-01.
    pub token: String,
    /// What the file, or the TXT record at `_acme-challenge` below the name, says; what the certificate holds the digest
    /// of.
    pub content: String,
    pub challenge_url: String,
    pub authorization_url: String,
}

impl Refusal {
    /// Whether there were too many requests (section 6.6).
    pub fn is_rate_limit(&self) -> bool {
        matches!(self, Refusal::Problem { problem, .. } if problem.word() == "rateLimited")
    }

    /// The time before which the CA does not want to be asked again, where it has named one.
    pub fn not_before(&self) -> Option<Timestamp> {
        match self {
            Refusal::Problem { not_before, .. } | Refusal::Silent { not_before, .. } => *not_before,
            _ => None,
        }
    }
}

/// Why an order comes to nothing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[serde(rename_all = "kebab-case")]
pub enum Refusal {
    #[error("the CA refuses ({during}): {} ({})", .problem.detail, .problem.word())]
    Problem { during: String, problem: Problem, not_before: Option<Timestamp> },
    #[error("domain control could not be validated for {}", .0.iter().map(|(name, problem)| format!("{name}: {}", problem.detail)).collect::<Vec<_>>().join("; "))]
    Names(Vec<(Identifier, Problem)>),
    #[error("the CA sent something unexpected ({during}): {what}")]
    Unexpected { during: String, what: String },
    /// Nothing comes back however often it is asked, or that it is out of order. What was begun can be continued.
    #[error("the CA cannot be reached ({during}): {what}")]
    Silent { during: String, what: String, not_before: Option<Timestamp> },
    #[error("the CA's terms of service must be accepted first: {}", .terms.as_deref().unwrap_or("see its directory"))]
    Terms { terms: Option<String> },
    #[error("the CA takes no account that is not bound to one of its customers (external account binding)")]
    ExternalAccount,
    #[error("the CA offers no profile `{profile}`; it offers {}", match .offered.is_empty() {
        true => "none".to_string(),
        false => .offered.join(", "),
    })]
    Profile { profile: String, offered: Vec<String> },
    #[error("the CA is still at it ({during}) after {polls} questions")]
    Slow { during: String, polls: u32 },
}
