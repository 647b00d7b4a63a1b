//! Why a change of a nameserver set is refused: facts, whose words and advice are added where errors are shown.

use crate::account::AccountName;
use crate::name::{DnsName, Hostname};
use crate::zone::EditError;

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NameserverRefusal {
    Exists(String),
    Unknown(String),
    /// It stands in harbor.toml, and is changed there.
    InSettings(String),
    UnknownAccount(AccountName),
    UnknownMember {
        set: String,
        nameserver: DnsName,
    },
    /// A set without nameservers serves nobody.
    NoneLeft {
        set: String,
    },
    /// A name inside a zone of this harbor needs an address.
    NoAddress {
        nameserver: DnsName,
        zone: Hostname,
    },
    ZoneRefuses {
        zone: Hostname,
        error: EditError,
    },
    InUse {
        set: String,
        zones: u32,
        accounts: u32,
    },
}
