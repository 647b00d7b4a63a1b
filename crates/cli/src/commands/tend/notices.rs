//! What a run of `tend` has to tell the command of `[notify]`: certificates, services, the backup. The links of names are for
//! `survey --notify`.

use brightharbor_core::certificate::CertificateState;
use brightharbor_core::certificate::securing::{SecureOutcome, Secured};
use brightharbor_core::name::Host;
use brightharbor_core::notice::{Condition, Told, Topic};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::notify::{Notified, notify};
use jiff::Timestamp;

use super::report::{RunningOut, Tended};
use crate::error::Error;

/// Tells what this run has found; `None` where nobody wants to be told.
pub(super) async fn tell(harbor: &Harbor, report: &Tended, now: Timestamp) -> Result<Option<Notified>, Error> {
    if harbor.settings.notify.command.is_empty() {
        return Ok(None);
    }
    let mut found = Vec::new();
    for secured in &report.tried {
        if let Some((topic, code, reason)) = state(secured) {
            found.push(Condition { topic, subject: secured.site.to_string(), code, reason });
        }
    }
    found.extend(report.running_out.iter().map(running_out));
    for brought in &report.brought {
        if let Some(problem) = &brought.problem {
            let (subject, reason) = (brought.service.clone(), problem.clone());
            found.push(Condition { topic: Topic::ServiceBehind, subject, code: None, reason });
        }
    }
    if let Err(reason) = &report.backup {
        let (subject, reason) = ("inventory".to_string(), reason.clone());
        found.push(Condition { topic: Topic::BackupFailed, subject, code: None, reason });
    }
    // What is left alone for a while is as it was.
    let is_left = |subject: &str| {
        let later = report.later.iter().any(|later| later.site.as_str() == subject);
        later || report.paused.iter().any(|paused| paused.site.as_str() == subject)
    };
    let looked_at = |told: &Told| match told.topic {
        Topic::DelegationBroken | Topic::LinkBroken => false,
        Topic::CertificateFailing => !is_left(&told.subject),
        _ => true,
    };
    Ok(notify(harbor, found, looked_at, now).await?)
}

fn state(secured: &Secured) -> Option<(Topic, Option<String>, String)> {
    match &secured.outcome {
        SecureOutcome::Served { certificate, new: true } => {
            let names: Vec<&str> = certificate.names.iter().map(Host::as_str).collect();
            let reason = format!("valid until {}, for {}", certificate.not_after, names.join(", "));
            Some((Topic::CertificateRenewed, None, reason))
        }
        // Somebody else is at it, or the name leads elsewhere so far: no fault.
        SecureOutcome::Served { .. } | SecureOutcome::NotYet => None,
        SecureOutcome::Refused { why, .. } if why.busy => None,
        SecureOutcome::Refused { why, .. } => {
            Some((Topic::CertificateFailing, Some(why.code.to_string()), why.reason.clone()))
        }
        SecureOutcome::NotShown { reason, .. } => {
            Some((Topic::CertificateFailing, Some("not-shown".into()), reason.clone()))
        }
    }
}

fn running_out(one: &RunningOut) -> Condition {
    let certificate = &one.certificate;
    let until = certificate.not_after;
    let (topic, reason) = match (certificate.state == CertificateState::Revoked, one.is_over) {
        (true, _) => (Topic::CertificateRevoked, "its CA has revoked it".into()),
        (false, true) => (Topic::CertificateExpired, format!("it expired at {until}")),
        (false, false) => (Topic::CertificateEnding, format!("it expires at {until}, and nobody here renews it")),
    };
    Condition { topic, subject: certificate.site.to_string(), code: None, reason }
}
