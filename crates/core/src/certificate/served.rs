//! What a server was seen to show over TLS, for the rules that judge it.

use std::net::SocketAddr;

use jiff::Timestamp;

use super::{CertificateFacts, RevocationStatus, StartTls, SuiteFamily, TlsVersion};
use crate::name::Host;
use crate::site::TlsFloor;

/// One server at one address, asked for one host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Served {
    pub host: String,
    /// Unspecified where the name leads to none.
    pub address: SocketAddr,
    pub seen_at: Timestamp,
    /// The protocol that changes to TLS there, where TLS does not begin at once.
    pub start_tls: Option<StartTls>,
    /// The kind of keys that it was asked for alone, where it has a certificate of that kind beside another.
    pub asked_for: Option<&'static str>,
    /// Whether it wants a certificate of the visitor.
    pub asks_for_client: bool,
    /// Why no handshake of today came about; then there is no chain.
    pub failed: Option<String>,
    /// As it was sent, the leaf first.
    pub chain: Vec<CertificateFacts>,
    /// The verdict of a verifier of today, for this host and time.
    pub verified: Result<(), Distrust>,
    /// The versions that it takes, the oldest first.
    pub versions: Vec<TlsVersion>,
    /// The families of cipher suites that it takes with TLS 1.2 or older, the best first.
    pub suites: Vec<SuiteFamily>,
    /// Whether it takes nothing that a library of today offers, and was greeted by hand: its chain was seen, but not that it
    /// has the key to it, nor any page.
    pub by_hand: bool,
    /// The protocol that it chose of HTTP/2 and HTTP/1.1 (RFC 7301).
    pub alpn: Option<String>,
    /// What the answer that was stapled to the handshake says (RFC 6066 section 8), if one was.
    pub staple: Option<RevocationStatus>,
    /// What its CA says of the leaf.
    pub revocation: RevocationStatus,
    /// For how many seconds browsers are bound to https (RFC 6797).
    pub hsts: Option<u64>,
    /// Whether it answered a request for a page.
    pub speaks_http: bool,
    /// What it shows to who asks for no name: the names of that certificate.
    pub without_name: Option<Vec<String>>,
}

impl Served {
    /// A host that leads nowhere.
    pub fn not_found(host: &str, address: SocketAddr, seen_at: Timestamp) -> Self {
        Self { failed: Some("the name leads to no address".into()), ..Self::unseen(host, address, seen_at) }
    }

    /// Before anything was seen.
    pub fn unseen(host: &str, address: SocketAddr, seen_at: Timestamp) -> Self {
        Self {
            host: host.to_string(),
            address,
            seen_at,
            start_tls: None,
            asked_for: None,
            asks_for_client: false,
            failed: None,
            chain: vec![],
            verified: Err(Distrust::Other("nothing was shown".into())),
            versions: vec![],
            suites: vec![],
            by_hand: false,
            alpn: None,
            staple: None,
            revocation: RevocationStatus::NotAsked("nothing was shown".into()),
            hsts: None,
            speaks_http: false,
            without_name: None,
        }
    }
}

impl Served {
    /// Whether it was asked for a page as well: not by another protocol, nor by keys of another kind, nor by hand.
    pub fn asks_for_pages(&self) -> bool {
        self.failed.is_none() && self.start_tls.is_none() && self.asked_for.is_none() && !self.by_hand
    }

    /// The host with the address that was looked at, if there is one.
    pub fn place(&self) -> String {
        let by_key = self.asked_for.map(|kind| format!(", asked for {kind} keys")).unwrap_or_default();
        match self.address.ip().is_unspecified() {
            true => self.host.clone(),
            false => format!("{} at {}{by_key}", self.host, self.address),
        }
    }
}

/// Why a verifier of today does not take a chain. It gives one reason, the first that it meets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Distrust {
    /// No root that it knows stands at the end.
    UnknownIssuer,
    /// The certificate is for other names.
    Name,
    Expired,
    NotYet,
    Other(String),
}

impl Distrust {
    pub fn words(&self) -> String {
        match self {
            Distrust::UnknownIssuer => "its issuer is not trusted, or an intermediate certificate is missing".into(),
            Distrust::Name => "it does not cover the name".into(),
            Distrust::Expired => "it has expired".into(),
            Distrust::NotYet => "it is not valid yet".into(),
            Distrust::Other(reason) => reason.clone(),
        }
    }
}

/// What the harbor knows of the host.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Installed {
    /// The leaf that is installed for it, DER.
    pub leaf: Option<Vec<u8>>,
    /// The hostnames of its site, itself among them.
    pub beside: Vec<Host>,
    /// The oldest version of TLS that its site takes.
    pub tls: Option<TlsFloor>,
    /// For how many seconds its site binds browsers to https.
    pub hsts: Option<u32>,
}
