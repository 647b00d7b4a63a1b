//! Errors about zones: making them, reading them from where they are kept, and the keys for that.

use brightharbor_core::zone::{
    AlterRefused, EditError, NewZoneRefused, PatternError, TemplateError, ZoneError, ZoneRefusal,
};
use brightharbor_io::dns::{KeyFileError, RequestProblem};
use brightharbor_io::zones::ZoneReadError;

use super::Error;

pub(super) fn new_zone_advice(refused: &NewZoneRefused) -> (&'static str, String) {
    match refused {
        NewZoneRefused::Pattern(error) => pattern_advice(error),
        NewZoneRefused::Template(TemplateError::NameserverAddress(name)) => (
            "nameserver-address",
            format!("under [host.nameserver-addresses] in harbor.toml, set \"{name}\" = [\"ADDRESS\"]"),
        ),
        NewZoneRefused::Defined { zone, file, .. } => (
            "zone-defined",
            format!(
                "to keep it here as it is: brightharbor zone create {zone} --account ACCOUNT --from-server; or take it out of {} \
                 by hand",
                file.display()
            ),
        ),
        NewZoneRefused::Served { .. } => (
            "zone-served",
            "see which file of the server defines it; it can stay there as a zone that takes updates: --home remote"
                .into(),
        ),
        NewZoneRefused::InTheWay(_) => ("in-the-way", "check the file and move it away, then try again".into()),
        NewZoneRefused::Unsound(finding) => (finding.code, format!("{}; correct the template or file", finding.cure)),
        NewZoneRefused::Template(_) => ("template", "correct the template in the harbor's folder `templates`".into()),
        NewZoneRefused::Serial(_) => ("zone-unreadable", "raise the serial in the file itself".into()),
        NewZoneRefused::Former(_) => ("former-zone", "leave it out: --bare; and add its records one by one".into()),
        NewZoneRefused::FormerUnsound(finding) => {
            (finding.code, "leave it out: --bare; and add its records one by one".into())
        }
        NewZoneRefused::Catalog(_) => ("catalog", "update it: brightharbor zone publish".into()),
    }
}

fn pattern_advice(error: &PatternError) -> (&'static str, String) {
    match error {
        PatternError::NoNameservers => (
            "no-nameservers",
            "set `nameservers` under [host] in the harbor's harbor.toml, or attach with --zone elsewhere".into(),
        ),
        PatternError::UnknownSet(name) => {
            ("nameserver-set", format!("add it to harbor.toml: [nameserver-sets.{name}] with nameservers = [...]"))
        }
        PatternError::NoMailServers => {
            ("no-mail-servers", "set `mail-servers` under [host] in harbor.toml, or choose another --mail".into())
        }
        PatternError::UnknownTemplate(name) => {
            ("template", format!("put it into the harbor's folder `templates`, as {name}.zone"))
        }
        PatternError::NotText(_) => ("template", "correct the template in the harbor's folder `templates`".into()),
    }
}

impl From<PatternError> for Error {
    fn from(error: PatternError) -> Self {
        let (code, advice) = pattern_advice(&error);
        Self::refused(code, error).advice(advice)
    }
}

impl From<NewZoneRefused> for Error {
    fn from(refused: NewZoneRefused) -> Self {
        let (code, advice) = new_zone_advice(&refused);
        Self::refused(code, refused).advice(advice)
    }
}

impl From<ZoneRefusal> for Error {
    fn from(refusal: ZoneRefusal) -> Self {
        use ZoneRefusal as Why;
        match refusal {
            Why::UnknownAccount(name) => super::account::unknown(&name),
            Why::NoCut { zone, above } => Self::refused(
                "no-cut",
                format!("no zone begins at {zone}: zone {above} of this harbor does not delegate it"),
            )
            .advice(format!(
                "what is below a domain is records in its zone: brightharbor record add; if {zone} is to be a zone of \
                         its own, delegate it first: brightharbor record add {zone} NS NAMESERVER"
            ))
            .with("zone", zone.as_str())
            .with("above", above.as_str()),
            Why::Exists { zone, account } => {
                Self::refused("zone-exists", format!("zone {zone} already exists; it belongs to account {account}"))
                    .advice(format!("show it: brightharbor zone show {zone}"))
                    .with("zone", zone.as_str())
                    .with("account", account.as_str())
            }
            Why::HoldsNames { zone, name } => {
                Self::refused("zone-holds-names", format!("{name} is attached, and needs zone {zone}"))
                    .advice(format!("to hand both over: brightharbor site change {name} --account ACCOUNT"))
                    .with("zone", zone.as_str())
                    .with("hostname", name.as_str())
            }
            Why::NoTemplate(zone) => {
                Self::refused("no-template", format!("zone {zone} came from no template, so that none can be changed"))
                    .advice("change its records: brightharbor record add, record replace")
                    .with("zone", zone.as_str())
            }
            Why::New(refused) => refused.into(),
            Why::Signing { zone, why } => super::taken_over::signing(&zone, why),
            Why::Stays { zone, why } => super::taken_over::stays(&zone, why),
            Why::Alter(refused) => refused.into(),
            Why::CatalogStays { catalog, file, line, reason } => {
                let place = format!("{}:{line}", file.display());
                Self::refused(
                    "catalog",
                    format!("the DNS server has the catalog zone {catalog} already, {reason}: {place}"),
                )
                .advice("make it one that can be joined, or name another `catalog` under [dns] in harbor.toml")
                .with("catalog", catalog.as_str())
            }
            Why::CatalogUnmade { catalog, error } => {
                Self::refused("catalog", format!("the catalog zone {catalog} cannot be created: {error}"))
                    .advice("correct `catalog` under [dns] in harbor.toml")
                    .with("catalog", catalog.as_str())
            }
            Why::Catalog { catalog, error } => {
                Self::refused("catalog", format!("the catalog zone {catalog} cannot be edited: {error}"))
                    .advice("move its file away; the next `zone publish` creates it again")
                    .with("catalog", catalog.as_str())
            }
            Why::EmptySet(set) => Self::refused("unknown-set", format!("nameserver set `{set}` names no nameserver"))
                .advice("name them in harbor.toml, or see `brightharbor nameserver add`")
                .with("set", set),
            Why::Edit { zone, error } => {
                Self::refused("zone-refuses", format!("zone {zone} cannot be edited: {error}"))
                    .advice("edit the zone file by hand first")
                    .with("zone", zone.as_str())
            }
        }
    }
}

impl From<AlterRefused> for Error {
    fn from(error: AlterRefused) -> Self {
        use AlterRefused as Why;
        let (code, message) = match &error {
            Why::Breaks(finding) => (finding.code, error.to_string()),
            Why::Edit(EditError::BesideAlias { .. } | EditError::AliasBeside { .. }) => {
                ("alias-beside-data", format!("{error} (alias-beside-data)"))
            }
            Why::Edit(EditError::BelowDelegation { .. }) => {
                ("hidden-by-delegation", format!("{error} (hidden-by-delegation)"))
            }
            Why::Edit(EditError::Signed) => ("zone-signed", error.to_string()),
            Why::Edit(EditError::Duplicate(_)) => ("duplicate", error.to_string()),
            Why::Edit(EditError::OutOfZone(..)) => ("out-of-zone", error.to_string()),
            _ => ("record", error.to_string()),
        };
        let advice = match &error {
            Why::Breaks(finding) => format!("{}; see `brightharbor explain {}`", finding.cure, finding.code),
            Why::NothingThere { .. } => "add it with `brightharbor record add`".into(),
            Why::NotThere { .. } => "name one of those".into(),
            Why::NothingNew => "nothing to do".into(),
            Why::Edit(EditError::Signed) => {
                "edit the file that it is signed from, and sign it again; or let the server sign it".into()
            }
            Why::Edit(_) => "the zone was not changed".into(),
        };
        Self::refused(code, message).advice(advice)
    }
}

impl From<KeyFileError> for Error {
    fn from(error: KeyFileError) -> Self {
        let advice = match &error {
            KeyFileError::Read(..) => {
                "correct the path of `key-file` in harbor.toml, or make the key: tsig-keygen NAME"
            }
            KeyFileError::Loose(..) => "let nobody but root change it, nor the folders that it lies in",
            KeyFileError::Open { .. } => "make it readable by its owner alone: chmod 600",
            KeyFileError::Wrong { .. } => "take the file as `tsig-keygen` writes it",
        };
        Self::refused("key-file", error).advice(advice)
    }
}

impl From<ZoneReadError> for Error {
    fn from(error: ZoneReadError) -> Self {
        let (code, advice) = match error {
            ZoneReadError::NotAsked(error) => {
                return Self::refused("not-asked", error).advice("give the command again");
            }
            ZoneReadError::File(error) => return error.into(),
            ZoneReadError::Key(error) => return error.into(),
            ZoneReadError::Unreadable { path, error } => return unreadable_zone(&path.display().to_string(), &error),
            ZoneReadError::Gone(_) => ("zone-file-gone", "put the zone file back from a backup".to_string()),
            ZoneReadError::Elsewhere(ref zone) => {
                ("zone-elsewhere", format!("ask its nameservers: brightharbor survey {zone}"))
            }
            ZoneReadError::UnknownPrimary { ref primary, .. } => {
                ("unknown-primary", format!("add it to harbor.toml: [primaries.{primary}] with address and key-file"))
            }
            ZoneReadError::Transfer { error: ref cause, .. } => ("transfer", transfer_advice(&cause.problem)),
            ZoneReadError::Foreign { .. } => ("transfer", "check what that server holds for the zone".into()),
            ZoneReadError::Dynamic(_) => (
                "dynamic-zone",
                "set `update-key-file` under [dns] in harbor.toml to a key that the server takes updates with".into(),
            ),
        };
        Self::refused(code, error).advice(advice)
    }
}

fn transfer_advice(problem: &RequestProblem) -> String {
    match problem {
        RequestProblem::Answered(word) if word == "REFUSED" || word == "NOTAUTH" => {
            "check that the server holds the zone and allows transfers and updates with this key".into()
        }
        RequestProblem::UnknownKey(_) | RequestProblem::WrongSecret(_) => {
            "the key file here and the key in the server's configuration must be the same".into()
        }
        RequestProblem::Clocks => "set the clocks of both machines".into(),
        _ => "check that the server runs and can be reached over TCP".into(),
    }
}

/// A file that no server would load, with its place: nothing can be done with it.
pub fn unreadable_zone(path: &str, error: &ZoneError) -> Error {
    let place = match &error.file {
        Some(_) => format!("{path}: {error}"),
        None => {
            let offence = if error.offence.is_empty() { String::new() } else { format!(" (at `{}`)", error.offence) };
            format!("{path}:{}:{}: {}{offence}", error.line, error.column, error.problem)
        }
    };
    Error::refused("zone-unreadable", place).advice("correct that line; a server would not load the zone")
}
