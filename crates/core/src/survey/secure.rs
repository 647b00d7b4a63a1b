//! The fifth link: whether the served certificate covers the name, its chain is whole and it is in date.

use super::{Link, LinkName, LinkState, Seen, TlsOutcome, Turn};
use crate::certificate::ends_soon;
use crate::certificate::{CertificateSource, CertificateState, RevocationStatus};
use crate::name::Host;

pub(super) fn secure(seen: &Seen<'_>, earlier: &[&Link]) -> Link {
    let link = |state, code: &'static str, because: String| Link::new(LinkName::Secure, state, code, because);
    let certificate = seen.harbored.and_then(|harbored| harbored.covering(seen.hostname));
    if seen.hostname.address().is_some() && certificate.is_none() {
        let because = format!(
            "served over http alone: anybody on the way can read along; if the CA issues for addresses: brightharbor \
             certificate issue {}",
            seen.hostname
        );
        return link(LinkState::Risk, "address-on-http", because);
    }
    if let (Some(harbored), None) = (seen.harbored, certificate) {
        return not_yet(seen.hostname, harbored, earlier);
    }
    if seen.tls.is_empty() {
        return link(LinkState::Unchecked, "no-address", "no address to ask".into());
    }
    let mut shown: Option<&TlsOutcome> = None;
    for tls in seen.tls {
        match &tls.outcome {
            TlsOutcome::NoRoute => continue,
            TlsOutcome::Failed(why) => {
                return whose(seen, link(LinkState::Broken, "no-handshake", format!("{} {why}", tls.address)));
            }
            TlsOutcome::Shown { verified: Err(why), .. } => {
                let stop_gap = certificate.is_some_and(|c| c.source == CertificateSource::SelfSigned);
                let at = tls.address;
                let (code, because) = match stop_gap && seen.is_ours(&at.ip()) {
                    true => {
                        ("self-signed", format!("the self-signed stop-gap is shown at {at}: visitors are warned of it"))
                    }
                    false => ("not-verified", format!("the certificate at {at} does not verify: {why}")),
                };
                let waits = stop_gap && seen.harbored.is_some_and(|harbored| harbored.awaited);
                return if waits {
                    link(LinkState::Waiting(None), code, because).turn(Turn::Tend)
                } else {
                    whose(seen, link(LinkState::Broken, code, because))
                };
            }
            TlsOutcome::Shown { revocation: RevocationStatus::Revoked { since, .. }, .. } => {
                let since = since.strftime("%Y-%m-%d");
                let because = format!(
                    "the certificate at {} is revoked by its CA since {since}: visitors whose browsers ask are warned",
                    tls.address
                );
                let revoked = link(LinkState::Broken, "revoked", because);
                let is_renewed = certificate.is_some_and(|c| c.source == CertificateSource::Ca);
                return if is_renewed { revoked.turn(Turn::Tend) } else { whose(seen, revoked) };
            }
            outcome @ TlsOutcome::Shown { .. } => shown = Some(outcome),
        }
    }
    let Some(TlsOutcome::Shown { protocol, not_before, not_after, sent, .. }) = shown else {
        return link(LinkState::Unchecked, "no-route", "this host has no address of the family to ask with".into());
    };
    if certificate.is_some_and(|c| c.state == CertificateState::Revoked) {
        let because = "the certificate is revoked: whoever asks its CA is warned; `tend` gets another one";
        return link(LinkState::Broken, "revoked", because.into()).turn(Turn::Tend);
    }
    let until = not_after.strftime("%Y-%m-%d");
    let because = format!("verified, {protocol}, {} sent, valid until {until}", chain_length(*sent));
    if ends_soon(*not_before, *not_after, seen.now) {
        return link(LinkState::Risk, "expires-soon", format!("{because}: it should have been renewed by now"))
            .turn(Turn::Tend);
    }
    link(LinkState::Holds, "verified", because)
}

/// What is wrong at a server is its administrator's turn, if that is us.
fn whose(seen: &Seen<'_>, link: Link) -> Link {
    if seen.harbored.is_some() { link.turn(Turn::Administrator) } else { link }
}

fn chain_length(sent: usize) -> String {
    if sent == 1 { "a single certificate".into() } else { format!("a chain of {sent} certificates") }
}

fn not_yet(host: &Host, harbored: &super::Harbored, earlier: &[&Link]) -> Link {
    let link = |state, code: &'static str, because: String| Link::new(LinkName::Secure, state, code, because);
    if let Some(other) = harbored.certificate.as_ref().filter(|_| !harbored.awaited) {
        let because = format!(
            "the certificate of {}, which nothing here renews, does not cover {host}: import one that does, or get one \
             from the CA: brightharbor certificate issue {host}",
            other.site
        );
        return link(LinkState::Broken, "not-covered", because).turn(Turn::Administrator);
    }
    if !harbored.has_ca {
        return link(LinkState::Broken, "no-ca", "no certificate, and the settings name no CA ([ca] directory)".into())
            .turn(Turn::Administrator);
    }
    let open = earlier.iter().find(|link| matches!(link.state, LinkState::Broken | LinkState::Unchecked));
    let waits = match (&harbored.pause, &harbored.waiting) {
        (Some(pause), _) => Some((Some(pause.not_before), pause.reason.as_str())),
        (None, Some(waiting)) => Some((waiting.not_before, waiting.reason.as_str())),
        (None, None) => harbored.awaited.then_some((None, "")),
    };
    match (waits, open) {
        (_, Some(open)) => link(
            LinkState::Waiting(None),
            "earlier-link-first",
            format!("no certificate yet: can be obtained once `{}` holds", open.name.word()),
        )
        .turn(Turn::Tend),
        (Some((until, reason)), None) => {
            let reason = if reason.is_empty() { "the next `tend` obtains one" } else { reason };
            link(LinkState::Waiting(until), "certificate-awaited", format!("no certificate yet: {reason}"))
                .turn(Turn::Tend)
        }
        (None, None) => link(LinkState::Broken, "no-certificate", "no certificate, and none is asked for".into())
            .turn(Turn::Administrator),
    }
}
