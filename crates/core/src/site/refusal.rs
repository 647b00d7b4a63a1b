//! Why a change of sites is refused: facts, whose words and advice are added where errors are shown.

use std::net::IpAddr;
use std::path::PathBuf;

use super::ByHand;
use super::SiteKind;
use crate::account::{AccountName, LimitReached};
use crate::harbor::PathError;
use crate::name::{DnsName, Host, Hostname};
use crate::zone::{EditError, NewZoneRefused};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SiteRefusal {
    UnknownAccount(AccountName),
    AlreadyAttached {
        hostname: Host,
        kind: SiteKind,
        account: AccountName,
        document_root: PathBuf,
    },
    SomebodyElses {
        hostname: Host,
        domain: Host,
        owner: AccountName,
    },
    /// The web server serves it already, by a file that somebody else has written.
    ByHand(ByHand),
    /// Only its zone is kept here, without a site.
    OnlyZone(Hostname),
    /// A block of the web server's own configuration takes the connections that ours would answer.
    ListenerTakesOurs {
        file: PathBuf,
        line: usize,
        address: IpAddr,
        port: u16,
    },
    PublicSuffix(Hostname),
    /// A zone file was given for it, and no new zone is made.
    NoNewZone(Host),
    /// The settings name no addresses to serve sites at.
    NoAddresses,
    NewZone(NewZoneRefused),
    Path(PathError),
    OutsideHome {
        document_root: PathBuf,
        home: PathBuf,
    },
    NotOurAddress(IpAddr),
    InTheWay(PathBuf),
    RootIsThere(PathBuf),
    NotAttached(Host),
    /// An alias that leads back to the name itself.
    LeadsBack(DnsName, Hostname),
    AliasAtApex(Hostname),
    /// No zone of the harbor holds the name.
    NoZone(Hostname),
    NothingToServe(Host),
    ZoneRefuses {
        zone: Hostname,
        error: EditError,
    },
    /// The zone cannot lose the addresses of names that are detached.
    ZoneKeepsAddresses {
        zone: Hostname,
        error: EditError,
    },
    /// A name that stays attached lies in a zone that is to go; its account, if that is another one.
    ZoneInUse {
        zone: Hostname,
        by: Host,
        owner: Option<AccountName>,
    },
    HstsWithoutHttps(Host),
    /// The settings have no such version of PHP; those that they have.
    UnknownPhp {
        version: String,
        known: Vec<String>,
    },
    /// Only Apache httpd reads files named `.htaccess`.
    NoHtaccess(Host),
    /// Scripts of an account run as its system user, and it has none.
    PhpWithoutUser(AccountName),
    NotProtected {
        site: Host,
        path: String,
    },
    /// Nobody of the name has a password for the path.
    NoSuchUser {
        name: String,
        path: String,
    },
    NoSuchPart {
        site: Host,
        path: String,
    },
    Limit(LimitReached),
}

impl From<NewZoneRefused> for SiteRefusal {
    fn from(refused: NewZoneRefused) -> Self {
        SiteRefusal::NewZone(refused)
    }
}

impl From<PathError> for SiteRefusal {
    fn from(error: PathError) -> Self {
        SiteRefusal::Path(error)
    }
}

impl From<LimitReached> for SiteRefusal {
    fn from(reached: LimitReached) -> Self {
        SiteRefusal::Limit(reached)
    }
}
