//! Why a change of certificates is refused: facts, whose words and advice are added where errors are shown.

use jiff::Timestamp;

use super::{DemandError, Distrust, ReadError, Unfit};
use crate::name::Hostname;
use crate::zone::{AlterRefused, EditError};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CertificateRefusal {
    NotAttached(Hostname),
    /// It was detached while a certificate was on its way.
    Detached(Hostname),
    /// None of the names in the certificate is attached.
    NoSite,
    NoKey,
    /// A key cannot be read or made; with the reason, in words.
    Key(String),
    Unfit {
        site: Hostname,
        error: Unfit,
    },
    /// Visitors trust the present one, and would be warned of this one.
    Untrusted {
        site: Hostname,
        distrust: Distrust,
        missing_issuer: Option<String>,
    },
    HasBetter {
        site: Hostname,
        until: Timestamp,
    },
    UnknownCa {
        ca: String,
        known: Vec<String>,
    },
    NoResponder,
    /// Only a DNS record proves control of all names below one (RFC 8555 section 7.1.3).
    WildcardProof {
        parent: Hostname,
    },
    /// An address has no names below it.
    NothingBelow(Hostname),
    OneSite {
        site: Hostname,
        from: Hostname,
    },
    SharedAlready {
        from: Hostname,
        further: Hostname,
    },
    NothingToShare {
        site: Hostname,
        from: Hostname,
    },
    NotCovered {
        from: Hostname,
        name: Hostname,
    },
    /// What came from the CA does not cover a name that was ordered.
    OrderedNotCovered {
        name: Hostname,
    },
    Unreadable {
        site: Hostname,
        error: ReadError,
    },
    NothingToRevoke {
        site: Hostname,
        from: Option<Hostname>,
    },
    Demand(DemandError),
    Zone(AlterRefused),
    /// A proof cannot be written into the zone, or taken out.
    ProofInZone {
        zone: Hostname,
        error: EditError,
    },
}
