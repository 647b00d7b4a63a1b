//! What came of getting a certificate for a site.

use serde::Serialize;

use crate::secure::{SecureOutcome, Secured};

#[derive(Serialize)]
pub struct SecuredDocument {
    site: String,
    /// `served`, `not-yet`, `refused` or `not-shown`.
    outcome: &'static str,
    /// Whether a new certificate came in this run.
    new: bool,
    names: Vec<String>,
    not_after: Option<String>,
    reason: Option<String>,
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
            SecureOutcome::Refused { reason, .. } => ("refused", None, false, Some(reason.clone())),
            SecureOutcome::NotShown { certificate, reason } => {
                ("not-shown", Some(certificate), false, Some(reason.clone()))
            }
        };
        let left_out = secured.left_out.iter();
        Self {
            site: secured.site.to_string(),
            outcome,
            new: is_new,
            names: certificate.iter().flat_map(|c| c.names.iter().map(ToString::to_string)).collect(),
            not_after: certificate.map(|certificate| certificate.not_after.to_string()),
            reason,
            left_out: left_out
                .map(|(name, reason)| LeftOut { name: name.to_string(), reason: reason.clone() })
                .collect(),
        }
    }
}
