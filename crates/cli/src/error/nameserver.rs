//! Refusals about nameserver sets.

use brightharbor_core::nameserver::NameserverRefusal;

use super::Error;
use crate::show::counted;

pub(super) fn unknown_set(set: &str) -> Error {
    Error::refused("unknown-set", format!("nameserver set `{}` not found", set.escape_debug()))
        .advice("see `brightharbor nameserver list`")
        .with("set", set)
}

impl From<NameserverRefusal> for Error {
    fn from(refusal: NameserverRefusal) -> Self {
        use NameserverRefusal as Why;
        match refusal {
            Why::Exists(set) => Self::refused("set-exists", format!("nameserver set `{set}` already exists"))
                .advice("see `brightharbor nameserver list`")
                .with("set", set),
            Why::Unknown(set) => unknown_set(&set),
            Why::InSettings(set) => {
                Self::refused("set-in-settings", format!("nameserver set `{set}` is defined in harbor.toml"))
                    .advice("change it there, then update the zones: brightharbor zone realign")
                    .with("set", set)
            }
            Why::UnknownAccount(name) => super::account::unknown(&name),
            Why::UnknownMember { set, nameserver } => unknown_member(&nameserver.bare(), &set),
            Why::NoneLeft { set } => {
                Self::refused("no-nameserver-left", format!("nameserver set {set} would have no nameserver"))
                    .advice(format!(
                        "give the one that takes over with --add NAME=ADDRESS; or: brightharbor nameserver remove {set}"
                    ))
                    .with("set", set)
            }
            Why::NoAddress { nameserver, zone } => {
                let name = nameserver.bare();
                Self::refused("no-address", format!("{name} lies in zone {zone} and needs an address"))
                    .advice(format!("give it as {name}=ADDRESS"))
                    .with("nameserver", name)
                    .with("zone", zone.as_str())
            }
            Why::ZoneRefuses { zone, error } => {
                Self::refused("zone-refuses", format!("zone {zone} cannot take the addresses: {error}"))
                    .advice("edit the zone file by hand first")
                    .with("zone", zone.as_str())
            }
            Why::InUse { set, zones, accounts } => {
                let (some_zones, some_accounts) =
                    (counted(zones as usize, "zone"), counted(accounts as usize, "account"));
                Self::refused("set-in-use", format!("nameserver set {set} is used by {some_zones} and {some_accounts}"))
                    .advice(
                        "move the zones first: brightharbor zone move --to SET; and the accounts: brightharbor account \
                         change ACCOUNT --nameserver-set SET",
                    )
                    .with("set", set)
                    .with("zones", zones)
                    .with("accounts", accounts)
            }
        }
    }
}

/// A nameserver that a set does not have.
fn unknown_member(nameserver: &str, set: &str) -> Error {
    Error::refused("unknown-nameserver", format!("{nameserver} is not in nameserver set {set}"))
        .advice(format!("see its members: brightharbor nameserver show {set}"))
        .with("nameserver", nameserver)
        .with("set", set)
}
