//! What came of getting a certificate for a site.

use brightharbor_core::acme::identifiers;
use serde::Serialize;

use brightharbor_core::certificate::securing::{SecureOutcome, Secured};
use brightharbor_io::secure::Brought;

use crate::error::brought_problem;

#[derive(Serialize)]
pub struct SecuredDocument {
    site: String,
    /// `served`, `not-yet`, `refused` or `not-shown`.
    outcome: &'static str,
    /// Whether a new certificate came in this run.
    new: bool,
    names: Vec<String>,
    not_after: Option<String>,
    /// The CA that stepped in for one that does not answer, by its name in the settings.
    stepped_in: Option<String>,
    /// The profile that was wished for, where the CA does not offer it any more and its own kind was taken.
    instead_of_profile: Option<String>,
    /// Whether it is shown with its CA's statement in each handshake, since it demands that (RFC 7633).
    stapled: bool,
    /// Whether it demands no such statement although that was wished for, since none could be had and time was short.
    unstapled: bool,
    /// Why the CA has issued nothing, in a word.
    code: Option<&'static str>,
    reason: Option<String>,
    /// Until when the present certificate is good, where a new one cannot be had; and from when on that is urgent.
    kept_until: Option<String>,
    urgent_from: Option<String>,
    left_out: Vec<LeftOut>,
}

#[derive(Serialize)]
struct LeftOut {
    name: String,
    reason: String,
}

impl From<&Secured> for SecuredDocument {
    fn from(secured: &Secured) -> Self {
        let (outcome, certificate, is_new, reason) = match &secured.outcome {
            SecureOutcome::Served { certificate, new } => ("served", Some(certificate), *new, None),
            SecureOutcome::NotYet => ("not-yet", None, false, None),
            SecureOutcome::Refused { why, .. } => ("refused", None, false, Some(why.reason.clone())),
            SecureOutcome::NotShown { certificate, reason } => {
                ("not-shown", Some(certificate), false, Some(reason.clone()))
            }
        };
        let left_out = secured.left_out.iter();
        let kept = match &secured.outcome {
            SecureOutcome::Refused { kept, .. } => kept.as_ref(),
            _ => None,
        };
        Self {
            site: secured.site.to_string(),
            outcome,
            new: is_new,
            names: certificate
                .iter()
                .flat_map(|c| identifiers(&c.names, &c.details.wildcards))
                .map(String::from)
                .collect(),
            not_after: certificate.map(|certificate| certificate.not_after.to_string()),
            stepped_in: certificate
                .filter(|certificate| certificate.details.in_place_of.is_some())
                .map(|certificate| certificate.details.ca.clone().unwrap_or_else(|| "default".into())),
            instead_of_profile: certificate.and_then(|certificate| certificate.details.instead_of_profile.clone()),
            stapled: certificate.is_some_and(|certificate| certificate.files.is_stapled()),
            unstapled: certificate.is_some_and(|certificate| certificate.details.unstapled),
            code: match &secured.outcome {
                SecureOutcome::Refused { why, .. } => Some(why.code),
                _ => None,
            },
            reason,
            kept_until: kept.map(|kept| kept.until.to_string()),
            urgent_from: kept.map(|kept| kept.urgent_from.to_string()),
            left_out: left_out
                .map(|(name, reason)| LeftOut { name: name.to_string(), reason: reason.clone() })
                .collect(),
        }
    }
}

/// What came of bringing a service its certificate.
#[derive(Debug, Clone, Serialize)]
pub struct BroughtDocument {
    pub service: String,
    pub hostname: String,
    /// Whether it got another one just now.
    pub new: bool,
    pub problem: Option<String>,
}

impl From<&Brought> for BroughtDocument {
    fn from(brought: &Brought) -> Self {
        Self {
            service: brought.service.clone(),
            hostname: brought.hostname.to_string(),
            new: brought.new,
            problem: brought.problem.as_ref().map(|problem| brought_problem(problem, &brought.hostname)),
        }
    }
}
