//! The one door for changes: everything a command changes goes through [`carry_out`], which records it before and
//! after, rolls back what fails, and lets the next command finish with one that was killed ([`recover`]).

mod lock;
mod put_back;
mod recover;
mod replaced;
mod steps;
mod stop;

use std::path::PathBuf;

use brightharbor_core::name::{Host, Hostname};

pub use lock::{Lock, LockError, take_lock};
pub use recover::{Recovered, has_leftovers, recover};
pub use replaced::copy_of;
pub use steps::{carry_out, check_preconditions};

use crate::acme::ErrandError;
use crate::dns::{KeyFileError, RequestError};
use crate::install::{CertificateFault, FileError, FolderError, ServiceError};
use crate::server::ServerError;
use crate::store::StoreError;

/// What is going on, for those who show progress.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Event {
    WaitingForLock {
        held_by: String,
    },
    WritingFiles(usize),
    TestingWebServer,
    ReloadingWebServer,
    /// The DNS server's own checker reads so many zone files.
    CheckingZones(usize),
    LoadingZones,
    /// So many zones are answered for with their new serial.
    ZonesServed {
        done: usize,
        of: usize,
    },
    AwaitingSignatures(Hostname),
    TestingPools,
    ReloadingPools,
    UpdatingZone(Hostname),
    ReloadingService(String),
    TellingCa(String),
    /// A command that was killed has been taken back.
    Recovered(Recovered),
    /// A certificate that a site names has expired; the reload goes on.
    OutOfDate(CertificateFault),
    LookingWhereNamesLead,
    /// A step of the order for a site, in words.
    Ordering {
        site: Host,
        what: &'static str,
    },
    /// A CA's directory sends its requests to other hosts than its own.
    CaAtOtherHosts(Vec<String>),
    InstallingCertificates,
    VerifyingCertificates,
    AskingWhenToRenew,
    AskingWhoServes(Hostname),
    /// So many authoritative servers do not have a change yet.
    NotEverywhere {
        missing: usize,
        of: usize,
    },
    LookingAt(String),
    /// Proofs by DNS that could not be taken out again; with the reason, in words.
    ProofsStay {
        site: Host,
        reason: String,
    },
}

/// Why changes were not carried out.
#[derive(Debug, thiserror::Error)]
pub enum CarryError {
    /// A precondition failed: nothing was begun.
    #[error("{0} has been changed by somebody else since it was read; nothing was changed")]
    ChangedMeanwhile(PathBuf),
    #[error("{0} already exists; nothing was changed")]
    InTheWay(PathBuf),
    #[error("system user `{0}` already exists; nothing was changed")]
    UserExists(String),
    /// A signal came between two changes, or with the last step of one.
    #[error("stopped by {0}; all that was begun is done")]
    Stopped(&'static str),
    #[error("{cause}")]
    RolledBack {
        cause: Box<Cause>,
        /// What could not be taken back, in words.
        left: Vec<String>,
        /// Files are among it: the next command tries again.
        again: bool,
    },
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    File(#[from] FileError),
}

#[derive(Debug, thiserror::Error)]
pub enum Cause {
    #[error("stopped by {0}")]
    Stopped(&'static str),
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Folder(#[from] FolderError),
    #[error(transparent)]
    Server(#[from] ServerError),
    #[error("not reloading: the web server would stop or serve errors: {0}")]
    Certificate(CertificateFault),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Key(#[from] KeyFileError),
    #[error("the zone {zone}: {error}")]
    Update { zone: Hostname, error: RequestError },
    #[error(transparent)]
    Service(#[from] ServiceError),
    #[error(transparent)]
    Errand(#[from] ErrandError),
}

#[cfg(test)]
mod tests;
