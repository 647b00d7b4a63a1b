//! Errors as people see them: what was wrong, what to do next, and the exit code. The libraries' errors carry the
//! facts; the advice is added here, once for each kind.

mod account;
mod certificate;
mod nameserver;
mod redirect;
mod site;
mod taken_over;
mod undo;
mod work;
mod zone;

use brightharbor_core::change::Consent;
use brightharbor_io::carry_out::{CarryError, Cause, LockError};
use brightharbor_io::dns::RequestProblem;
use brightharbor_io::install::FileError;
use brightharbor_io::server::ServerError;
use brightharbor_io::store::StoreError;
use brightharbor_io::trust::TrustError;
use serde_json::{Map, Value};

use crate::show::words::{self, Told};
pub use work::{advice_for_ca, brought_problem, tried, work_words};
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
    /// What the message says, for programs.
    pub facts: Map<String, Value>,
}

impl Error {
    pub fn new(exit: Exit, code: &'static str, message: impl ToString) -> Self {
        Self { exit, code, message: message.to_string(), advice: None, facts: Map::new() }
    }

    pub fn advice(mut self, advice: impl ToString) -> Self {
        self.advice = Some(advice.to_string());
        self
    }

    /// What may have been meant, before all other advice.
    pub fn suggest(mut self, meant: String) -> Self {
        let advice = self.advice.take().map(|advice| format!("; or {advice}")).unwrap_or_default();
        self.facts.insert("suggested".into(), meant.clone().into());
        self.advice(format!("if `{meant}` was meant, give that{advice}"))
    }

    pub fn with(mut self, name: &str, value: impl Into<Value>) -> Self {
        self.facts.insert(name.to_string(), value.into());
        self
    }

    pub fn wrong_use(message: impl ToString) -> Self {
        Self::new(Exit::WrongUse, "wrong-use", message).advice("correct that; add --help to see what can be given")
    }

    /// Notices were asked for, and there is nobody to get them.
    pub fn nobody_to_tell() -> Self {
        Self::refused("nobody-to-tell", "the settings name no command that is to be told")
            .advice("name one in harbor.toml: command = [\"PROGRAM\"] under [notify]")
    }

    pub fn refused(code: &'static str, message: impl ToString) -> Self {
        Self::new(Exit::Refused, code, message)
    }

    /// What was to be printed could not be; whatever was done stays done.
    pub fn output(error: &std::io::Error) -> Self {
        Self::new(Exit::Fault, "output", format!("the output could not be written: {error}"))
            .advice("make room or choose another place for it; what was changed stands in `brightharbor logbook`")
    }

    /// What has to be consented to, and how that is done.
    pub fn consent_needed(missing: &[Consent]) -> Self {
        let told: Vec<Told> = missing.iter().map(words::consent).collect();
        let mut message = String::new();
        for (at, one) in told.iter().enumerate() {
            message.push_str(if at > 0 { "\n" } else { "" });
            message.push_str(&one.sentence());
            if !one.detail.is_empty() {
                message.push_str(&format!(":\n{}", one.detail.trim_end()));
            }
        }
        let documents: Vec<Value> = told.iter().map(|one| one.document(false)).collect();
        let advice = match missing {
            [Consent::ReplacesHandEdit { site, .. }] => format!(
                "copy what you need of it elsewhere, then give the command again with --yes; or have the file written \
                 again: brightharbor site change {site} --yes"
            ),
            [Consent::ServerNotReady { .. }] => {
                "make the server answer at its new address first; or change it all the same with --unready".into()
            }
            _ => "if that is what you want, give the command again with --yes".to_string(),
        };
        Self::refused("consent-needed", message).advice(advice).with("consents", documents)
    }
}

impl From<StoreError> for Error {
    fn from(error: StoreError) -> Self {
        match &error {
            StoreError::NoHarbor(_) => Self::new(Exit::WrongUse, "no-harbor", error)
                .advice("create one with `brightharbor init`, or name another with --harbor or BRIGHTHARBOR"),
            StoreError::Newer(..) => Self::refused("newer-harbor", error).advice("update brightharbor"),
            StoreError::Damaged { inventory, backup, .. } => {
                let way_back = match backup {
                    Some(backup) => {
                        let (from, to) = (backup.display(), inventory.display());
                        format!(
                            "go back to the newest sound backup: cp {from} {to}; rm -f {to}-wal {to}-shm; then \
                             brightharbor site realign and brightharbor logbook show what came after it"
                        )
                    }
                    None => "there is no sound backup in the harbor's folder backups: take one of your own".into(),
                };
                Self::refused("inventory-damaged", error.to_string()).advice(way_back)
            }
            StoreError::Sqlite(_) | StoreError::Value(_) => Self::refused("inventory", error)
                .advice("check that the harbor's disk has room and that you may write to its inventory.sqlite"),
        }
    }
}

impl From<FileError> for Error {
    fn from(error: FileError) -> Self {
        let advice = match error.error.kind() {
            std::io::ErrorKind::PermissionDenied => "run it as the user that owns the harbor, usually root",
            _ => "check that the folder exists and its disk has room",
        };
        Self::refused("file", error).advice(advice)
    }
}

impl From<LockError> for Error {
    fn from(error: LockError) -> Self {
        Self::refused("busy", error).advice("wait until the other command has finished, then try again")
    }
}

impl From<TrustError> for Error {
    fn from(error: TrustError) -> Self {
        Self::refused("trust-roots", error).advice("correct `trust-roots` or `trust-root` in harbor.toml")
    }
}

impl From<CarryError> for Error {
    fn from(error: CarryError) -> Self {
        match error {
            CarryError::ChangedMeanwhile(_) => Self::refused("changed-meanwhile", &error)
                .advice("check the file, then give the command again: it reads the file afresh"),
            CarryError::InTheWay(_) => Self::refused("in-the-way", &error).advice("move the file away, then try again"),
            CarryError::UserExists(_) => Self::refused("user-exists", &error)
                .advice("omit --create-user to give the account that user, or choose another name"),
            CarryError::Stopped(_) => Self::new(Exit::Fault, "stopped", &error)
                .advice("see what was done: brightharbor logbook; give the command again for the rest"),
            CarryError::Store(error) => error.into(),
            CarryError::File(error) => error.into(),
            CarryError::RolledBack { cause, left, again } => rolled_back(*cause, &left, again),
        }
    }
}

fn rolled_back(cause: Cause, left: &[String], again: bool) -> Error {
    let advice = match cause {
        _ if again => format!("these could not be rolled back yet, the next command tries again: {}", left.join("; ")),
        _ if !left.is_empty() => format!("these could not be rolled back, correct them by hand: {}", left.join("; ")),
        Cause::Update { zone, error } if matches!(error.problem, RequestProblem::ChangedMeanwhile) => {
            let message = format!("the zone {zone}: {error}");
            return Error::refused("changed-meanwhile", message)
                .advice("give the command again: it reads the zone afresh");
        }
        Cause::Stopped(_) => "everything was rolled back; give the command again when you want".to_string(),
        // The CA has said no, or nothing: that is no failure midway.
        Cause::Errand(error) => return error.into(),
        Cause::Server(ServerError::NotLoaded { .. }) => {
            "everything was rolled back; check that the DNS server runs and that its main file includes the harbor's \
             zone list: brightharbor init --check"
                .into()
        }
        // As Apache httpd and nginx say it.
        Cause::Server(ServerError::Refused { ref output, .. })
            if output.contains("Invalid command") || output.contains("unknown directive") =>
        {
            "everything was rolled back; a module of the web server seems to be missing (on Debian, a2enmod turns one of \
             Apache httpd on); those that are needed: brightharbor init --check"
                .into()
        }
        _ => "everything was rolled back; fix the cause, then try again".to_string(),
    };
    Error::new(Exit::RolledBack, "rolled-back", cause).advice(advice)
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::name::Host;
    use brightharbor_core::site::SiteRefusal;
    use brightharbor_io::server::ServerError;

    #[test]
    fn every_refusal_has_advice_and_its_exit_code() {
        let refused: Error = SiteRefusal::NoAddresses.into();
        assert_eq!((refused.exit, refused.code), (Exit::Refused, "no-addresses"));
        let missing: Error = StoreError::NoHarbor("/h".into()).into();
        assert_eq!((missing.exit, missing.code), (Exit::WrongUse, "no-harbor"));
        let site = Host::parse("gullrock.example").unwrap();
        let edit = Consent::ReplacesHandEdit {
            site,
            path: "/h/site.conf".into(),
            written: "a\nb\n".into(),
            found: "a\nc\n".into(),
        };
        let consent = Error::consent_needed(&[edit, Consent::ClosesCaAccount { ca: "pier".into() }]);
        assert_eq!((consent.exit, consent.code), (Exit::Refused, "consent-needed"));
        assert!(consent.message.contains("\n-b\n+c\nthe account at the CA `pier`"), "{}", consent.message);
        assert_eq!(consent.facts["consents"][1]["code"], "closes-ca-account");
        for error in [refused, missing, consent] {
            assert!(error.advice.is_some(), "{error:?}");
        }
    }

    #[test]
    fn what_could_not_be_put_back_is_named() {
        let cause = || Box::new(Cause::Server(ServerError::NotSet("[web] control")));
        let whole: Error = CarryError::RolledBack { cause: cause(), left: vec![], again: false }.into();
        assert!(whole.exit == Exit::RolledBack && whole.advice.unwrap().contains("rolled back"));
        let left = vec!["/h/site: denied".to_string()];
        let torn: Error = CarryError::RolledBack { cause: cause(), left: left.clone(), again: false }.into();
        assert!(torn.advice.unwrap().ends_with("correct them by hand: /h/site: denied"));
        let torn: Error = CarryError::RolledBack { cause: cause(), left, again: true }.into();
        assert!(torn.advice.unwrap().ends_with("the next command tries again: /h/site: denied"));
    }
}
