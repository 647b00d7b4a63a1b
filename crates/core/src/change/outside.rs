//! Changes that reach beyond this harbor's own files: a service that takes a certificate, a CA that is told something.
//!
//! They are values like all others; carrying them out, and taking back what can be, is in `brightharbor-io`.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use zeroize::Zeroizing;

use crate::acme::RevocationReason;
use crate::harbor::Service;
use crate::name::Host;

/// Has the service's link lead to a new folder with a certificate and its key. Its precondition is that the link leads to
/// where it did when it was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServicePlacing {
    /// As the settings name it.
    pub name: String,
    pub service: Service,
    /// Where the link leads; `None`: there is none yet.
    pub former: Option<PathBuf>,
    /// The new folder, beside the link.
    pub folder: PathBuf,
    pub chain_pem: String,
    pub key_pem: Zeroizing<String>,
}

/// A message to a CA by the harbor's account there. There is no way back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct CaErrand {
    /// By its name in the settings; that of `[ca]` is `default`.
    pub ca: String,
    pub told: ToldToCa,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ToldToCa {
    /// The account has another key.
    AnotherKey,
    /// The account is reached at this mailbox; none: none.
    Contact { contact: Option<String> },
    /// The account ends.
    Closing,
    /// The first certificate of a chain file must not be trusted any more.
    Revocation { site: Host, chain: PathBuf, reason: RevocationReason },
}
