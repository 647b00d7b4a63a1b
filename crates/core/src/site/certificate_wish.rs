//! How the certificate of a site is to be got, now and at each renewal: kept with the site.

use serde::{Deserialize, Serialize};

use crate::acme::{Identifier, ProofKind};
use crate::name::Hostname;

/// What was asked for when a certificate was ordered. Everything has a default.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct CertificateWish {
    /// The CA, by its name in the settings; that of `[ca]` when not named.
    pub ca: Option<String>,
    pub key: KeyKind,
    /// Whether a renewal takes the key that is there, for those who pin it.
    pub keep_key: bool,
    pub proof: ProofWish,
    /// The main hostname of the site whose certificate this one takes as well, in place of one of its own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<Hostname>,
    /// Names below which all names are to be covered, one label deep.
    pub wildcards: Vec<Hostname>,
}

/// What kind of key is made.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum KeyKind {
    #[default]
    P256,
    P384,
    Rsa2048,
    Rsa3072,
    Rsa4096,
}

/// How control of the names is proven to the CA.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProofWish {
    /// Over http for names that lead here; by a DNS record for wildcards.
    #[default]
    Fitting,
    /// By a DNS record for all names, also for those that lead elsewhere.
    Dns01,
    /// In a TLS handshake (RFC 8737), where http does not get through; by a DNS record for wildcards.
    TlsAlpn01,
}

impl ProofWish {
    /// What control of one entry of an order is proven by. Only a DNS record proves it for all names below one (RFC 8555
    /// section 7.1.3), and there is none for an address.
    pub fn kind_for(self, identifier: &Identifier) -> ProofKind {
        match self {
            _ if identifier.wildcard => ProofKind::Dns01,
            ProofWish::Dns01 if identifier.name.address().is_none() => ProofKind::Dns01,
            ProofWish::TlsAlpn01 => ProofKind::TlsAlpn01,
            ProofWish::Fitting | ProofWish::Dns01 => ProofKind::Http01,
        }
    }
}

impl KeyKind {
    pub fn words(self) -> &'static str {
        match self {
            KeyKind::P256 => "EC P-256",
            KeyKind::P384 => "EC P-384",
            KeyKind::Rsa2048 => "RSA 2048",
            KeyKind::Rsa3072 => "RSA 3072",
            KeyKind::Rsa4096 => "RSA 4096",
        }
    }
}
