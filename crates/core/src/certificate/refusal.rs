//! Why a change of certificates is refused: facts, whose words and advice are added where errors are shown.

use jiff::Timestamp;

use super::{DemandError, Distrust, ReadError, Unfit};
use crate::name::{Host, Hostname};
use crate::zone::{AlterRefused, EditError};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CertificateRefusal {
    NotAttached(Host),
    /// It was detached while a certificate was on its way.
    Detached(Host),
    /// None of the names in the certificate is attached.
    NoSite,
    /// Its certificates are for several sites.
    WhichSite {
        sites: Vec<Host>,
    },
    NoKey,
    /// A key cannot be read or made; with the reason, in words.
    Key(String),
    Unfit {
        site: Host,
        error: Unfit,
    },
    /// The web server cannot show its CA's statement with it; with the reason, in words.
    CannotStaple {
        reason: String,
    },
    /// It demands a statement of its CA in each handshake, and there is none; with the reason, in words.
    NoStaple {
        site: Host,
        reason: String,
    },
    /// Its CA has revoked it, or is to be told.
    Revoked {
        site: Host,
    },
    /// Visitors trust the present one, and would be warned of this one.
    Untrusted {
        site: Host,
        distrust: Distrust,
        missing_issuer: Option<String>,
    },
    HasBetter {
        site: Host,
        until: Timestamp,
    },
    UnknownCa {
        ca: String,
        known: Vec<String>,
    },
    /// Kept with the site, it would have all renewals refused.
    Profile {
        profile: String,
        offered: Vec<String>,
    },
    NoResponder,
    /// Only a DNS record proves control of all names below one (RFC 8555 section 7.1.3).
    WildcardProof {
        parent: Hostname,
    },
    /// An address has no names below it.
    NothingBelow(Host),
    OneSite {
        site: Host,
        from: Host,
    },
    SharedAlready {
        from: Host,
        further: Host,
    },
    NothingToShare {
        site: Host,
        from: Host,
    },
    NotCovered {
        from: Host,
        name: Host,
    },
    /// What came from the CA does not cover a name that was ordered.
    OrderedNotCovered {
        name: Host,
    },
    Unreadable {
        site: Host,
        error: ReadError,
    },
    NothingToRevoke {
        site: Host,
        from: Option<Host>,
    },
    Demand(DemandError),
    Zone(AlterRefused),
    /// A proof cannot be written into the zone, or taken out.
    ProofInZone {
        zone: Hostname,
        error: EditError,
    },
}
