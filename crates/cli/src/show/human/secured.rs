//! What came of getting a certificate for a site.

use super::Page;
use crate::secure::{SecureOutcome, Secured};

pub fn secured(page: &mut Page, secured: &Secured) {
    let site = &secured.site;
    match &secured.outcome {
        SecureOutcome::Served { certificate, new } => {
            let names = certificate.names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            let until = certificate.not_after.strftime("%Y-%m-%d");
            let how = if *new { "issued, installed and proven by a handshake" } else { "served as it should be" };
            page.hanging("", &format!("{site}: certificate for {names} {how}, valid until {until}"));
        }
        SecureOutcome::NotYet => {
            // The reasons are the links' own; the main name's says enough.
            let reason = secured.left_out.first().map_or("no name leads here", |(_, reason)| reason.as_str());
            return page.hanging("", &format!("{site}: no certificate yet, `tend` tries again: {reason}"));
        }
        SecureOutcome::Refused { reason, advice } => {
            page.hanging("", &format!("{site}: no certificate: {reason}"));
            if let Some(advice) = advice {
                page.hanging("  next: ", advice);
            }
        }
        SecureOutcome::NotShown { reason, .. } => {
            page.hanging(
                "",
                &format!("{site}: the certificate is installed, but a handshake does not show it: {reason}"),
            );
        }
    }
    for (name, reason) in &secured.left_out {
        page.hanging("  left out: ", &format!("{name}: {reason}"));
    }
}
