//! Errors as people see them: what was wrong, what to do next, and the exit code. The libraries' errors carry the
//! facts; the advice is added here, once for each kind.

mod zone;

use brightharbor_core::site::AttachRefused;
use brightharbor_io::acme::{OrderError, SessionError};
use brightharbor_io::carry_out::{CarryError, Cause, LockError};
use brightharbor_io::dns::RequestProblem;
use brightharbor_io::install::FileError;
use brightharbor_io::server::ServerError;
use brightharbor_io::store::StoreError;
use brightharbor_io::trust::TrustError;

pub use zone::unreadable_zone;

/// The exit codes, as in `--help`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    Done = 0,
    Fault = 1,
    WrongUse = 2,
    Waits = 3,
    Refused = 4,
    RolledBack = 5,
}

#[derive(Debug)]
pub struct Error {
    pub exit: Exit,
    /// A word for programs.
    pub code: &'static str,
    pub message: String,
    /// What to do next.
    pub advice: Option<String>,
}

impl Error {
    pub fn new(exit: Exit, code: &'static str, message: impl ToString) -> Self {
        Self { exit, code, message: message.to_string(), advice: None }
    }

    pub fn advice(mut self, advice: impl ToString) -> Self {
        self.advice = Some(advice.to_string());
        self
    }

    pub fn wrong_use(message: impl ToString) -> Self {
        Self::new(Exit::WrongUse, "wrong-use", message)
    }

    pub fn refused(code: &'static str, message: impl ToString) -> Self {
        Self::new(Exit::Refused, code, message)
    }
}

impl From<StoreError> for Error {
    fn from(error: StoreError) -> Self {
        match &error {
            StoreError::NoHarbor(_) => Self::new(Exit::WrongUse, "no-harbor", error)
                .advice("make one with `brightharbor init`, or name another with --harbor or BRIGHTHARBOR"),
            StoreError::Newer(..) => Self::refused("newer-harbor", error).advice("update brightharbor"),
            StoreError::Sqlite(_) | StoreError::Value(_) => Self::refused("inventory", error)
                .advice("see that the harbor's disk has room and that you may write to its inventory.sqlite"),
        }
    }
}

impl From<FileError> for Error {
    fn from(error: FileError) -> Self {
        let advice = match error.error.kind() {
            std::io::ErrorKind::PermissionDenied => "run it as the user that the harbor belongs to, mostly root",
            _ => "see that the folder is there and its disk has room",
        };
        Self::refused("file", error).advice(advice)
    }
}

impl From<LockError> for Error {
    fn from(error: LockError) -> Self {
        Self::refused("busy", error).advice("wait until the other command is done, then try again")
    }
}

impl From<TrustError> for Error {
    fn from(error: TrustError) -> Self {
        Self::refused("trust-roots", error).advice("mend `trust-roots` or `trust-root` in harbor.toml")
    }
}

impl From<CarryError> for Error {
    fn from(error: CarryError) -> Self {
        match error {
            CarryError::ChangedMeanwhile(_) => Self::refused("changed-meanwhile", &error)
                .advice("look at the file, then give the command again: it reads the file afresh"),
            CarryError::InTheWay(_) => Self::refused("in-the-way", &error).advice("move the file away, then try again"),
            CarryError::UserExists(_) => Self::refused("user-exists", &error)
                .advice("leave --create-user out to give the account that user, or choose another name"),
            CarryError::Store(error) => error.into(),
            CarryError::File(error) => error.into(),
            CarryError::RolledBack { cause, left } => rolled_back(*cause, &left),
        }
    }
}

fn rolled_back(cause: Cause, left: &[String]) -> Error {
    let advice = match cause {
        _ if !left.is_empty() => format!("these could not be put back, mend them by hand: {}", left.join("; ")),
        Cause::Update { zone, error } if matches!(error.problem, RequestProblem::ChangedMeanwhile) => {
            let message = format!("the zone {zone}: {error}");
            return Error::refused("changed-meanwhile", message)
                .advice("give the command again: it reads the zone afresh");
        }
        // The CA has said no, or nothing: that is no failure midway.
        Cause::Errand(error) => return error.into(),
        Cause::Server(ServerError::NotLoaded { .. }) => {
            "everything was put back as it was; see that the DNS server runs and that its main file includes the \
             harbor's zone list: brightharbor init --check"
                .into()
        }
        _ => "everything was put back as it was; mend the cause, then try again".to_string(),
    };
    Error::new(Exit::RolledBack, "rolled-back", cause).advice(advice)
}

impl From<AttachRefused> for Error {
    fn from(error: AttachRefused) -> Self {
        let (code, advice) = match &error {
            AttachRefused::UnknownAccount(name) => (
                "unknown-account",
                format!("see `brightharbor account list`, or add it: brightharbor account add {name} --email ADDRESS"),
            ),
            AttachRefused::AlreadyAttached { hostname, .. } => {
                ("already-attached", format!("see how it stands: brightharbor survey {hostname}"))
            }
            AttachRefused::SomebodyElses { owner, .. } => {
                ("somebody-elses", format!("attach it to the account {owner}, or ask its customer"))
            }
            AttachRefused::PublicSuffix(name) => {
                ("public-suffix", format!("attach a name below it, as in bakery.{name}"))
            }
            AttachRefused::NoAddresses => {
                ("no-addresses", "set `addresses` under [host] in the harbor's harbor.toml".into())
            }
            AttachRefused::NotOurAddress(_) => (
                "not-our-address",
                "give one that this machine is reached at, or add it under [host] in harbor.toml".into(),
            ),
            AttachRefused::NewZone(refused) => zone::new_zone_advice(refused),
            AttachRefused::Path(_) | AttachRefused::OutsideHome { .. } => {
                ("document-root", "mend `document-root` under [sites] in harbor.toml, or the account's home".into())
            }
            AttachRefused::InTheWay(_) => ("in-the-way", "look at the file and move it away, then try again".into()),
            AttachRefused::RootIsThere(_) => {
                ("root-is-there", "serve what is in it with --existing, or choose another folder".into())
            }
            AttachRefused::NotAttached(name) => {
                ("not-attached", format!("attach it first: brightharbor attach {name} --account ACCOUNT"))
            }
            AttachRefused::LeadsBack(..) => ("alias-loop", "name the server that really answers".into()),
            AttachRefused::AliasAtApex(name) => (
                "alias-at-apex",
                format!("attach www.{name} with --served-by, and send {name} there: brightharbor redirect add"),
            ),
            AttachRefused::NothingToServe(name) => {
                ("nothing-to-serve", format!("add its records instead: brightharbor record add {name} TYPE DATA"))
            }
            AttachRefused::NoZone(_) => {
                ("no-zone", "the record belongs where the zone is kept; or attach its domain here first".into())
            }
            AttachRefused::ZoneRefuses { .. } => ("zone-refuses", "change the zone file by hand first".into()),
        };
        Self::refused(code, error).advice(advice)
    }
}

impl From<OrderError> for Error {
    fn from(error: OrderError) -> Self {
        use brightharbor_core::acme::Refusal;
        let (code, advice) = match &error {
            OrderError::Session(SessionError::NoCa) => ("no-ca", "set `directory` under [ca] in harbor.toml"),
            OrderError::Session(SessionError::Unknown(_)) => (
                "unknown-ca",
                "put it back under [cas] in harbor.toml, or take another: certificate issue HOSTNAME --ca NAME",
            ),
            OrderError::Session(SessionError::KeyChange) => {
                ("key-change", "finish it: brightharbor ca change-key NAME, where NAME is as in `ca list`")
            }
            OrderError::Session(SessionError::Trust(_)) => {
                ("trust-roots", "mend `trust-root` of the CA in harbor.toml")
            }
            OrderError::Session(SessionError::External(_)) => {
                ("external-account", "mend `external-account` of the CA in harbor.toml, or the file that it names")
            }
            OrderError::Refused(Refusal::ExternalAccount) => (
                "external-account",
                "ask the CA for the identifier and key of your account there, and set external-account = { id, key-file } \
                 in harbor.toml",
            ),
            OrderError::Refused(Refusal::Terms { .. }) => {
                ("terms", "read the CA's terms, then set `terms-accepted = true` under [ca] in harbor.toml")
            }
            OrderError::Refused(Refusal::Names(names)) if names.iter().any(|(_, why)| why.word() == "connection") => (
                "not-validated",
                "let what is asked of this host by the CA through to it; or have the names proven by DNS: certificate \
                 issue HOSTNAME --proof dns-01",
            ),
            OrderError::Refused(Refusal::Names(_)) => ("not-validated", "mend what the reasons name, then try again"),
            OrderError::Refused(Refusal::Silent { .. }) => (
                "ca-silent",
                "see that its `directory` in harbor.toml is right and that this machine gets there; `brightharbor tend` \
                 goes on with what was begun",
            ),
            OrderError::Refused(_) => ("ca-refuses", "nothing was changed; `brightharbor tend` tries again later"),
            OrderError::Busy => {
                ("busy", "wait until it is done, then see what it came to: brightharbor certificate list")
            }
            OrderError::StillAtWork { .. } => ("ca-at-work", "`brightharbor tend` goes on with the order"),
            OrderError::Session(_) | OrderError::File(_) | OrderError::Key(_) => {
                ("ca-files", "see that you may write to the folder `ca` of the harbor")
            }
        };
        let exit = if matches!(error, OrderError::StillAtWork { .. }) { Exit::Waits } else { Exit::Refused };
        Self::new(exit, code, error).advice(advice)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::acme::{Problem, Refusal};
    use brightharbor_core::name::Hostname;
    use brightharbor_io::server::ServerError;

    #[test]
    fn every_refusal_has_advice_and_its_exit_code() {
        let name = Hostname::parse("gullrock.example").unwrap();
        let refused: Error = AttachRefused::NoAddresses.into();
        assert_eq!((refused.exit, refused.code), (Exit::Refused, "no-addresses"));
        let problem = Problem { detail: "no".into(), ..Problem::default() };
        let names: Error = OrderError::Refused(Refusal::Names(vec![(name.into(), problem)])).into();
        assert_eq!((names.exit, names.code), (Exit::Refused, "not-validated"));
        let kind = "urn:ietf:params:acme:error:connection".to_string();
        let walled = Problem { kind, detail: "timeout".into(), ..Problem::default() };
        let quay = Hostname::parse("quay.example").unwrap();
        let walled: Error = OrderError::Refused(Refusal::Names(vec![(quay.into(), walled)])).into();
        assert!(walled.advice.unwrap().contains("--proof dns-01"));
        let waits: Error = OrderError::StillAtWork { not_before: None }.into();
        assert_eq!(waits.exit, Exit::Waits);
        let missing: Error = StoreError::NoHarbor("/h".into()).into();
        assert_eq!((missing.exit, missing.code), (Exit::WrongUse, "no-harbor"));
        for error in [refused, names, waits, missing] {
            assert!(error.advice.is_some(), "{error:?}");
        }
    }

    #[test]
    fn what_could_not_be_put_back_is_named() {
        let cause = || Box::new(Cause::Server(ServerError::NotSet("[web] control")));
        let whole: Error = CarryError::RolledBack { cause: cause(), left: vec![] }.into();
        assert!(whole.exit == Exit::RolledBack && whole.advice.unwrap().contains("put back as it was"));
        let left = vec!["/h/site: denied".to_string()];
        let torn: Error = CarryError::RolledBack { cause: cause(), left }.into();
        assert!(torn.advice.unwrap().contains("/h/site: denied"));
    }
}
