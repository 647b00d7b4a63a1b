//! A CA that certificates are got from (RFC 8555), as `harbor.toml` settles it.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

/// The certificate authority.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Ca {
    /// The URL of its directory (RFC 8555 section 7.1.1).
    #[serde(default)]
    pub directory: Option<String>,
    /// Where the CA may write to about certificates.
    #[serde(default)]
    pub contact: Option<String>,
    /// Set on purpose by the administrator, after reading the CA's terms.
    #[serde(default)]
    pub terms_accepted: bool,
    /// A PEM file with the root that the CA's own https is verified with; the system's roots when left out.
    #[serde(default)]
    pub trust_root: Option<PathBuf>,
    /// The names that the CA goes by in CAA records (RFC 8659), as its terms say.
    #[serde(default)]
    pub caa_identities: Vec<String>,
    /// The customer's account that accounts at this CA must be bound to (RFC 8555 section 7.3.4).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub external_account: Option<ExternalAccount>,
    /// A part of the name of the root that chains should lead to, where the CA offers several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub preferred_chain: Option<String>,
    /// Orders on the way at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub orders_at_once: Option<u8>,
    /// Those of the other CAs that step in, in this order, while this one does not answer for long.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub fallback: Vec<String>,
    /// What is done when a certificate is about to end and some of its names cannot be proven.
    #[serde(default, skip_serializing_if = "WhenUrgent::is_usual")]
    pub when_urgent: WhenUrgent,
}

/// What is done when a certificate is about to end and a name that it covers cannot be proven.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WhenUrgent {
    /// The others get a new one without it, and it is named.
    #[default]
    FewerNames,
    /// The one in place is served to its end.
    Wait,
}

impl WhenUrgent {
    fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

/// What a CA has given to a customer to bind accounts with.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ExternalAccount {
    pub id: String,
    /// A file with the key, base64url as the CA gives it; only its owner may be able to read it.
    pub key_file: PathBuf,
}

impl Ca {
    /// Orders on the way at once: few, since a CA has many customers.
    pub fn orders_at_once(&self) -> usize {
        usize::from(self.orders_at_once.unwrap_or(4).clamp(1, 32))
    }
}
