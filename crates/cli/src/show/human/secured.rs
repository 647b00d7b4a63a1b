//! What came of getting a certificate for a site.

use brightharbor_core::acme::identifiers;
use brightharbor_core::certificate::{CertificateSource, Revocation};

use super::Page;
use crate::error::advice_for_ca;
use crate::show::json::BroughtDocument;
use brightharbor_core::certificate::securing::{SecureOutcome, Secured};

pub fn secured(page: &mut Page, secured: &Secured) {
    let site = &secured.site;
    match &secured.outcome {
        SecureOutcome::Served { certificate, new } => {
            let names = identifiers(&certificate.names, &certificate.details.wildcards);
            let names = names.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            let until = certificate.not_after.strftime("%Y-%m-%d");
            let how = match (new, certificate.source) {
                (true, CertificateSource::Ca) => "issued, installed and verified",
                (true, _) => "installed and verified",
                (false, _) => "served as it should be",
            };
            page.hanging("", &format!("{site}: certificate for {names} {how}, valid until {until}"));
            if let (true, Some(silent)) = (new, &certificate.details.in_place_of) {
                let ca = certificate.details.ca.as_deref().unwrap_or("default");
                page.hanging("  from: ", &format!("the CA `{ca}`, since `{silent}` does not answer"));
            }
            if let (true, Some(wished)) = (new, &certificate.details.instead_of_profile) {
                let words =
                    format!("the CA's own choice, since it offers no profile `{wished}` any more (see `ca list`)");
                page.hanging("  kind: ", &words);
            }
            if *new && certificate.files.is_stapled() {
                page.hanging("  with: ", "the statement of its CA in each handshake, which `tend` keeps fresh");
            } else if *new && certificate.details.unstapled {
                let words =
                    "a demand for its CA's statement, which cannot be met now; the next renewal asks for it again";
                page.hanging("  without: ", words);
            } else if *new && certificate.details.stapled {
                page.hanging(
                    "  without: ",
                    "a demand for its CA's statement in each handshake: the CA has left it out",
                );
            }
        }
        SecureOutcome::NotYet => {
            // The reasons are the links' own; the main name's says enough.
            let reason =
                secured.left_out.first().map_or("no name resolves to this host", |(_, reason)| reason.as_str());
            return page.hanging("", &format!("{site}: no certificate yet, `tend` tries again: {reason}"));
        }
        SecureOutcome::Refused { why, kept } => {
            let reason = &why.reason;
            let what = if kept.is_some() { "no new certificate" } else { "no certificate" };
            page.hanging("", &format!("{site}: {what}: {reason}"));
            if let Some(kept) = kept {
                let (until, urgent) = (kept.until.strftime("%Y-%m-%d"), kept.urgent_from.strftime("%Y-%m-%d"));
                let now = brightharbor_io::clock::now();
                let words = match () {
                    () if kept.until <= now => format!("the present one expired on {until}: this is urgent"),
                    () if kept.urgent_from <= now => format!("the present one is good until {until}: this is urgent"),
                    () => format!("the present one stays, good until {until}; this is urgent from {urgent} on"),
                };
                page.hanging("  meanwhile: ", &words);
            }
            page.hanging("  next: ", advice_for_ca(why.code));
        }
        SecureOutcome::NotShown { reason, .. } => {
            page.hanging(
                "",
                &format!("{site}: the certificate is installed, but a TLS handshake does not show it: {reason}"),
            );
        }
    }
    for (name, reason) in &secured.left_out {
        page.hanging("  left out: ", &format!("{name}: {reason}"));
    }
}

/// A certificate that was revoked; whether the site still uses it.
pub fn revoked(page: &mut Page, revocation: &Revocation, is_still_shown: bool) {
    let until = revocation.not_after.strftime("%Y-%m-%d");
    let former = if is_still_shown { "certificate" } else { "former certificate" };
    page.hanging("", &format!("{}: revoked the {former} that was valid until {until}", revocation.site));
}

/// What came of bringing another service its certificate.
pub fn brought(page: &mut Page, brought: &BroughtDocument) {
    let (service, hostname) = (&brought.service, &brought.hostname);
    let words = match &brought.problem {
        Some(problem) => format!("service {service}: no certificate installed: {problem}"),
        None if brought.new => format!("service {service}: installed the certificate of {hostname}"),
        None => format!("service {service}: already has the certificate of {hostname}"),
    };
    page.hanging("", &words);
}
