//! Why a change of a zone is refused: facts, whose words and advice are added where errors are shown.

use super::{NewZoneRefused, SigningRefused, StaysAsItIs};
use crate::account::AccountName;
use crate::name::Hostname;
use crate::zone::{AlterRefused, EditError, ZoneError};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ZoneRefusal {
    UnknownAccount(AccountName),
    /// Neither a registrable domain, nor delegated by the zone that it lies in.
    NoCut {
        zone: Hostname,
        above: Hostname,
    },
    Exists {
        zone: Hostname,
        account: AccountName,
    },
    /// Names in it are attached to the account that it belongs to.
    HoldsNames {
        zone: Hostname,
        name: Hostname,
    },
    /// It came from no template.
    NoTemplate(Hostname),
    New(NewZoneRefused),
    /// It stays what it is on the server.
    Stays {
        zone: Hostname,
        why: StaysAsItIs,
    },
    Alter(AlterRefused),
    /// Its signing stays as it is.
    Signing {
        zone: Hostname,
        why: SigningRefused,
    },
    /// The server has it already, in a manner in which it cannot be joined.
    CatalogStays {
        catalog: Hostname,
        file: std::path::PathBuf,
        line: usize,
        reason: &'static str,
    },
    CatalogUnmade {
        catalog: Hostname,
        error: ZoneError,
    },
    Catalog {
        catalog: Hostname,
        error: EditError,
    },
    /// The set that zones are to be moved to names no nameserver.
    EmptySet(String),
    /// A record cannot be written into the zone, or taken out.
    Edit {
        zone: Hostname,
        error: EditError,
    },
}

impl From<NewZoneRefused> for ZoneRefusal {
    fn from(refused: NewZoneRefused) -> Self {
        ZoneRefusal::New(refused)
    }
}

impl From<AlterRefused> for ZoneRefusal {
    fn from(refused: AlterRefused) -> Self {
        ZoneRefusal::Alter(refused)
    }
}
