//! What decisions about sites have to tell.

use std::path::PathBuf;

use super::{Content, Guard, Part, SiteKind, WwwPolicy};
use crate::account::AccountName;
use crate::name::{DnsName, Host, Hostname};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SiteRemark {
    /// A file that somebody has edited goes, and a copy of it is kept.
    EditKept {
        site: Host,
        copy: PathBuf,
    },
    Attached {
        hostname: Host,
        kind: SiteKind,
        account: AccountName,
        twin: Option<Host>,
        document_root: PathBuf,
    },
    /// Further names for a site that is there.
    AliasDomain {
        hostname: Host,
        twin: Option<Host>,
        site: Host,
    },
    /// Only the zone is kept here.
    ZoneOnly {
        hostname: Host,
    },
    ServedElsewhere {
        hostname: Host,
        by: DnsName,
    },
    /// The document roots lie in one another: each shows pages of the other.
    SharesRoot {
        document_root: PathBuf,
        with: Host,
    },
    /// One slip of the keyboard away from a name that is here.
    NearMiss {
        hostname: Host,
        known: Hostname,
    },
    /// The whole site, with all its names.
    Detached {
        site: Host,
    },
    NamesDetached {
        site: Host,
        names: Vec<Host>,
    },
    PagesStay {
        document_root: PathBuf,
    },
    CertificateStays {
        folder: PathBuf,
    },
    DocumentRoot {
        site: Host,
        before: PathBuf,
        after: PathBuf,
    },
    Www {
        site: Host,
        policy: WwwPolicy,
    },
    /// http is sent to https; for some names only once a certificate covers them.
    HttpsForced {
        site: Host,
        later: Vec<Host>,
    },
    HttpsOffered {
        site: Host,
    },
    /// The oldest TLS version that is accepted.
    Tls {
        site: Host,
        only_13: bool,
    },
    /// Seconds that browsers use https alone for; none: they are not told to any more.
    Hsts {
        site: Host,
        seconds: Option<u32>,
    },
    /// What answers at its paths from now on, the longest first.
    Parts {
        site: Host,
        parts: Vec<Part>,
    },
    /// How its files are shown, and how much programs may have.
    ContentOptions {
        site: Host,
        content: Box<Content>,
    },
    /// Who may see a path from now on.
    Protected {
        site: Host,
        guard: Guard,
    },
    /// Everybody may.
    NotProtected {
        site: Host,
        path: String,
    },
    /// What an administrator has written beside is taken in, or is gone.
    OwnDirectives {
        site: Host,
        path: Option<PathBuf>,
        gone: bool,
    },
    /// PHP of a version runs as the account's own user.
    PoolMade {
        account: AccountName,
        version: String,
        user: String,
    },
    PoolGone {
        account: AccountName,
        version: String,
    },
    /// Somebody has edited the pool's file by hand: it is left alone.
    PoolEdited {
        account: AccountName,
        path: PathBuf,
    },
    /// The document root can be read by every user of this machine, other customers' programs among them.
    RootIsOpen {
        document_root: PathBuf,
        group: String,
    },
    /// The twin of a name is served again.
    TwinBack {
        site: Host,
        twin: Host,
    },
    /// It belongs to another account from now on.
    HandedOver {
        site: Host,
        account: AccountName,
    },
    /// A name below a domain that is handed over belongs to a third account.
    StaysWithItsAccount {
        hostname: Host,
    },
    FileWrittenAgain {
        site: Host,
        path: PathBuf,
    },
}
