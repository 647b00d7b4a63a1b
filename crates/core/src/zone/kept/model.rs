//! Zones as the inventory holds them: whose each is, where it is kept, and what it was made by.

use super::{Prepared, Signing};
use serde::{Deserialize, Serialize};

use crate::account::AccountName;
use crate::name::Hostname;

/// The DNS data of a domain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Zone {
    pub name: Hostname,
    pub account: AccountName,
    pub home: ZoneHome,
    /// For a remote zone: its primary server, by its name in the settings.
    #[serde(default)]
    pub primary: Option<String>,
    /// The nameserver set of the settings that it is delegated to; that of `[host]` when not named.
    #[serde(default)]
    pub nameserver_set: Option<String>,
    /// The key of the pattern that it was made by; `None`: it came as it is.
    #[serde(default)]
    pub pattern: Option<String>,
    /// Its times to live are lowered, for a move.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub prepared: Option<Prepared>,
    /// The server signs it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signing: Option<Box<Signing>>,
}

impl Zone {
    pub fn new(name: Hostname, account: AccountName, home: ZoneHome) -> Self {
        Self { name, account, home, primary: None, nameserver_set: None, pattern: None, prepared: None, signing: None }
    }
}

impl Zone {
    /// The policy of the server that it is signed by, if it is.
    pub fn signed_by(&self) -> Option<&str> {
        self.signing.as_ref().map(|signing| signing.policy.as_str())
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ZoneHome {
    /// A master file in this harbor.
    Here,
    /// On a primary server elsewhere that takes our updates (RFC 2136).
    Remote,
    /// Held by somebody else: we check and hand over.
    Elsewhere,
}

impl ZoneHome {
    pub fn words(self) -> &'static str {
        match self {
            ZoneHome::Here => "here",
            ZoneHome::Remote => "remote",
            ZoneHome::Elsewhere => "elsewhere",
        }
    }
}
