//! Errors of loading, of the way of a change, and of work on certificates.

use brightharbor_io::acme::{ErrandError, SessionError};
use brightharbor_io::door::DoorError;
use brightharbor_io::load::LoadError;
use brightharbor_io::look::LookError;
use brightharbor_io::secure::{BroughtProblem, WorkError, outcome_of};

use super::Error;
use crate::show::words::service_problem;
use brightharbor_core::certificate::securing::Secured;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;

/// What came of a site, also where it could not even be tried.
pub fn tried(site: &Site, secured: Result<Secured, WorkError>) -> Secured {
    secured.unwrap_or_else(|error| {
        let error = Error::from(error);
        outcome_of(site.main(), error.code, error.message)
    })
}

impl From<DoorError> for Error {
    fn from(error: DoorError) -> Self {
        match error {
            DoorError::Lock(error) => error.into(),
            DoorError::Store(error) => error.into(),
            DoorError::Carry(error) => error.into(),
            DoorError::Load(error) => error.into(),
            DoorError::KeepsChanging => Self::refused("keeps-changing", error)
                .advice("wait until the other commands have finished, then try again"),
        }
    }
}

impl From<LoadError> for Error {
    fn from(error: LoadError) -> Self {
        match error {
            LoadError::Store(error) => error.into(),
            LoadError::File(error) => error.into(),
            LoadError::Zone(error) => error.into(),
            LoadError::Key(error) => error.into(),
            LoadError::NotAsked(error) => Self::refused("not-asked", error).advice("give the command again"),
            LoadError::OthersMayWrite(error) => Self::refused("others-may-change", &error).advice(
                "give the file, and the folders that it lies in, to root, and let nobody else write to them (chown root, \
                 chmod go-w)",
            ),
            LoadError::NotAttached(name) => super::site::not_attached(&name),
        }
    }
}

impl From<LookError> for Error {
    fn from(error: LookError) -> Self {
        match error {
            LookError::Store(error) => error.into(),
            LookError::Trust(error) => error.into(),
        }
    }
}

impl From<ErrandError> for Error {
    fn from(error: ErrandError) -> Self {
        let advice = match &error {
            ErrandError::NoAccount(_) => "the first order opens one; until then there is nothing to do",
            ErrandError::Unreachable(_) => "try again later: the next try continues what was begun",
            ErrandError::Place(_) => "check that you may write to the folder `ca` of the harbor, then try again",
            ErrandError::Session(SessionError::KeyChange) => "finish it: brightharbor ca change-key NAME",
            ErrandError::Session(_) | ErrandError::Key(_) => "correct that, then try again",
            ErrandError::Chain(_) => "check that the file exists and can be read: run it as root",
            ErrandError::Refused(_) => "nothing was changed here",
        };
        let code = match &error {
            ErrandError::NoAccount(_) => "no-ca-account",
            ErrandError::Unreachable(_) => "ca-silent",
            _ => "ca-refuses",
        };
        Self::refused(code, error).advice(advice)
    }
}

impl From<WorkError> for Error {
    fn from(error: WorkError) -> Self {
        let go_on = |site: &str| {
            format!(
                "see why: {site}; `brightharbor tend` continues it; or revoke the certificate all the same with \
                 --without-successor"
            )
        };
        match error {
            WorkError::Door(error) => (*error).into(),
            WorkError::Load(error) => (*error).into(),
            WorkError::Look(error) => error.into(),
            WorkError::Store(error) => error.into(),
            WorkError::Errand(error) => (*error).into(),
            WorkError::Refusal(refusal) => (*refusal).into(),
            WorkError::Consent(consent) => Self::consent_needed(&[*consent]),
            WorkError::NoSuccessor(site) => {
                let message = format!("{site}: no new certificate is served, so the former one is not revoked");
                Self::refused("no-successor", message)
                    .advice(go_on(&format!("brightharbor certificate issue {site}")))
                    .with("site", site.as_str())
            }
            WorkError::StillHas(who) => {
                use brightharbor_io::secure::StillHas;
                let look = match &who {
                    StillHas::Site(site) => format!("brightharbor certificate issue {site}"),
                    StillHas::Service(service) => format!("brightharbor certificate install --service {service}"),
                };
                let message = format!("{who} still has the certificate, so the CA was not told to revoke it yet");
                Self::refused("no-successor", message).advice(go_on(&look)).with("still_has", who.to_string())
            }
            WorkError::Lost => Self::refused("inventory", "the site was removed while the command ran")
                .advice("see `brightharbor site list`"),
        }
    }
}

/// What to do when a CA has issued nothing, by the code of the reason.
pub fn advice_for_ca(code: &str) -> &'static str {
    match code {
        "no-ca" => "set `directory` under [ca] in harbor.toml",
        "unknown-ca" => {
            "put it back under [cas] in harbor.toml, or choose another: certificate issue HOSTNAME --ca NAME"
        }
        "key-change" => "finish it: brightharbor ca change-key NAME, where NAME is as in `ca list`",
        "trust-roots" => "correct `trust-root` of the CA in harbor.toml",
        "external-account" => {
            "ask the CA for the identifier and key of your account there, and set external-account = { id, key-file } \
             in harbor.toml"
        }
        "terms" => "read the CA's terms, then set `terms-accepted = true` under [ca] in harbor.toml",
        "profile-not-offered" => {
            "choose one that it offers: certificate issue HOSTNAME --profile NAME; or --profile none"
        }
        "not-reached" => {
            "open this host for the CA's requests; or use DNS challenges: certificate issue HOSTNAME --proof dns-01"
        }
        "not-validated" => "fix what the reasons name, then try again",
        "would-cover-less" => "fix what the reason names, or detach the name; the certificate in place stays meanwhile",
        "ca-silent" => {
            "check that its `directory` in harbor.toml is right and that this machine can reach it; `brightharbor tend` \
             continues what was begun; where it is down for long, its `fallback` names CAs that step in"
        }
        "no-staple" => {
            "see that this machine reaches the CA's OCSP responder, and try again; or get one without that demand: \
             certificate issue HOSTNAME --stapled=no"
        }
        "busy" => "wait until it has finished, then check the result: brightharbor certificate list",
        "ca-at-work" => "`brightharbor tend` continues the order",
        "ca-files" => "check that you may write to the folder `ca` of the harbor",
        _ => "nothing was changed; `brightharbor tend` tries again later",
    }
}

/// Why a service got nothing, in words.
pub fn brought_problem(problem: &BroughtProblem, hostname: &Hostname) -> String {
    match problem {
        BroughtProblem::Service(problem) => service_problem(problem, hostname),
        BroughtProblem::Failed(error) => work_words(error),
    }
}

/// The same error in words, where it ends nothing.
pub fn work_words(error: &WorkError) -> String {
    match error {
        WorkError::Refusal(refusal) => Error::from((**refusal).clone()).message,
        WorkError::Consent(consent) => crate::show::words::consent(consent).sentence(),
        other => other.to_string(),
    }
}
