//! What came of getting a certificate for a site.

use brightharbor_core::acme::identifiers;
use brightharbor_core::certificate::CertificateSource;

use super::Page;
use crate::revocations::Revoked;
use crate::secure::{SecureOutcome, Secured};
use crate::services::Brought;

pub fn secured(page: &mut Page, secured: &Secured) {
    let site = &secured.site;
    match &secured.outcome {
        SecureOutcome::Served { certificate, new } => {
            let names = identifiers(&certificate.names, &certificate.details.wildcards);
            let names = names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            let until = certificate.not_after.strftime("%Y-%m-%d");
            let how = match (new, certificate.source) {
                (true, CertificateSource::Ca) => "issued, installed and proven by a handshake",
                (true, _) => "installed and proven by a handshake",
                (false, _) => "served as it should be",
            };
            page.hanging("", &format!("{site}: certificate for {names} {how}, valid until {until}"));
        }
        SecureOutcome::NotYet => {
            // The reasons are the links' own; the main name's says enough.
            let reason = secured.left_out.first().map_or("no name leads here", |(_, reason)| reason.as_str());
            return page.hanging("", &format!("{site}: no certificate yet, `tend` tries again: {reason}"));
        }
        SecureOutcome::Refused { reason, advice, kept } => {
            let what = if kept.is_some() { "no new certificate" } else { "no certificate" };
            page.hanging("", &format!("{site}: {what}: {reason}"));
            if let Some(kept) = kept {
                let (until, urgent) = (kept.until.strftime("%Y-%m-%d"), kept.urgent_from.strftime("%Y-%m-%d"));
                let now = brightharbor_io::clock::now();
                let words = match () {
                    () if kept.until <= now => format!("the present one ran out on {until}: this is urgent"),
                    () if kept.urgent_from <= now => format!("the present one is good until {until}: this is urgent"),
                    () => format!("the present one stays, good until {until}; this is urgent from {urgent} on"),
                };
                page.hanging("  meanwhile: ", &words);
            }
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

/// What came of a revocation that was carried out.
pub fn revoked(page: &mut Page, revoked: &Revoked) {
    revoked.successor.iter().chain(&revoked.sites).for_each(|one| secured(page, one));
    revoked.services.iter().for_each(|one| brought(page, one));
    let site = &revoked.revocation.site;
    let until = revoked.revocation.not_after.strftime("%Y-%m-%d");
    let former = if revoked.is_still_shown() { "certificate" } else { "former certificate" };
    page.hanging("", &format!("The {former} of {site}, good until {until}, is revoked."));
}

/// What came of bringing another service its certificate.
pub fn brought(page: &mut Page, brought: &Brought) {
    let (service, hostname) = (&brought.service, &brought.hostname);
    let words = match &brought.problem {
        Some(problem) => format!("not brought to the service {service}: {problem}"),
        None if brought.new => format!("the certificate of {hostname} was brought to the service {service}"),
        None => format!("the service {service} has the certificate of {hostname}"),
    };
    page.hanging("", &words);
}
