//! What decisions about sites have to tell.

use std::path::PathBuf;

use super::{SiteKind, WwwPolicy};
use crate::account::AccountName;
use crate::name::{DnsName, Hostname};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SiteRemark {
    Attached {
        hostname: Hostname,
        kind: SiteKind,
        account: AccountName,
        twin: Option<Hostname>,
        document_root: PathBuf,
    },
    /// Further names for a site that is there.
    Parked {
        hostname: Hostname,
        twin: Option<Hostname>,
        site: Hostname,
    },
    /// Only the zone is kept here.
    ZoneOnly {
        hostname: Hostname,
    },
    ServedElsewhere {
        hostname: Hostname,
        by: DnsName,
    },
    /// The document roots lie in one another: each shows pages of the other.
    SharesRoot {
        document_root: PathBuf,
        with: Hostname,
    },
    /// One slip of the keyboard away from a name that is here.
    NearMiss {
        hostname: Hostname,
        known: Hostname,
    },
    /// The whole site, with all its names.
    Detached {
        site: Hostname,
    },
    NamesDetached {
        site: Hostname,
        names: Vec<Hostname>,
    },
    PagesStay {
        document_root: PathBuf,
    },
    CertificateStays {
        folder: PathBuf,
    },
    DocumentRoot {
        site: Hostname,
        before: PathBuf,
        after: PathBuf,
    },
    Www {
        site: Hostname,
        policy: WwwPolicy,
    },
    /// http is sent to https: from now on, or once a certificate covers all names.
    HttpsForced {
        site: Hostname,
        at_once: bool,
    },
    HttpsOffered {
        site: Hostname,
    },
    /// The oldest TLS version that is spoken.
    Tls {
        site: Hostname,
        only_13: bool,
    },
    /// Seconds that browsers use https alone for; none: they are not told to any more.
    Hsts {
        site: Hostname,
        seconds: Option<u32>,
    },
    FileWrittenAgain {
        site: Hostname,
        path: PathBuf,
    },
}
