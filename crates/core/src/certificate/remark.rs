//! What decisions about certificates have to tell.

use std::path::PathBuf;

use jiff::Timestamp;

use super::{DemandedProof, Distrust};
use crate::acme::Identifier;
use crate::name::{Host, Hostname};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CertificateRemark {
    /// An imported certificate covers all names of the site.
    Covers {
        site: Host,
        until: Timestamp,
    },
    ChainLength {
        certificates: usize,
    },
    /// The chain ends before this issuer, which may be a root that visitors' programs know.
    MissingIssuer {
        subject: String,
    },
    /// Visitors are warned of it.
    Distrusted {
        site: Host,
        distrust: Distrust,
    },
    /// Its CA says that it is revoked.
    FoundRevoked {
        site: Host,
        since: Timestamp,
    },
    /// What was found in files, or left out of them, in words.
    Found(String),
    /// A service is to get a certificate that demands a statement of its CA: it has to fetch one itself.
    ServiceMustStaple {
        service: String,
    },
    StopGap {
        site: Host,
        days: u16,
    },
    Requested {
        names: Vec<Identifier>,
        folder: PathBuf,
    },
    Shares {
        site: Host,
        from: Host,
    },
    /// What a seller wanted to see is over: taken away, or to be taken out where the zone is kept.
    DemandOver {
        site: Host,
        proof: DemandedProof,
        elsewhere: bool,
    },
    /// What a seller wanted to see is still there; with the reason, in words.
    DemandStays {
        site: Host,
        reason: String,
    },
    /// Former certificates were removed with their keys, so many days after their end.
    FormerRemoved {
        sites: Vec<Host>,
        days: i64,
    },
    FormerStays {
        site: Host,
        reason: String,
    },
    /// A certificate that was to be revoked has expired meanwhile.
    RevocationOver {
        site: Host,
    },
    /// Before it is revoked, a new one with a new key is issued, installed and verified.
    SuccessorFirst {
        site: Host,
    },
    ServiceUpToDate {
        service: String,
        hostname: Hostname,
    },
    /// A service gets nothing; with the reason, in words.
    ServiceSkipped {
        service: String,
        reason: String,
    },
}
