//! Puts certificates in place, proves them, and sends http to https: many sites by one change, with one reload.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use brightharbor_core::certificate::{Certificate, CertificateDetails, CertificateSource, CertificateState};
use brightharbor_core::certificate::{Install, force_https, install, read_chain, uncovered};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_core::survey::TlsOutcome;
use brightharbor_io::acme::Issued;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::probe::shake_hands;
use brightharbor_io::server::await_fingerprint;
use brightharbor_io::trust;
use jiff::Timestamp;

use super::GO_ON;
use super::course::{Course, SecureOutcome, Stage};
use super::orders::{Sessions, web_addresses};
use crate::error::Error;
use crate::run::{Context, Decision, change};
use crate::site_change::own_file;

/// A certificate that has come from the CA.
pub struct Arrived {
    pub issued: Issued,
    pub names: Vec<Hostname>,
    pub wildcards: Vec<Hostname>,
}

/// Installs what has arrived, and settles what handshakes have shown: http is sent to https, and nothing waits any more
/// where every name is covered. If that fails for all together, each half is tried alone, so that the one that cannot be
/// installed is found and holds up no other.
pub async fn apply_all(context: &Context, sessions: &Sessions, courses: &mut [Course<'_>]) {
    let due = |at: &usize| matches!(courses[*at].at, Stage::Arrived(_) | Stage::Proven { .. });
    let mut parts: Vec<Vec<usize>> = vec![(0..courses.len()).filter(due).collect()];
    context.progress.doing("installing certificates");
    while let Some(mut part) = parts.pop() {
        if part.is_empty() {
            continue;
        }
        let Err(error) = apply_some(context, sessions, courses, &part).await else { continue };
        match part[..] {
            [only] => courses[only].at = Stage::Ended(Err(error)),
            _ => {
                let second = part.split_off(part.len() / 2);
                parts.extend([second, part]);
            }
        }
    }
}

async fn apply_some(
    context: &Context,
    sessions: &Sessions,
    courses: &mut [Course<'_>],
    which: &[usize],
) -> Result<(), Error> {
    let read: &[Course<'_>] = courses;
    let title = title(read, which);
    let changed = change(context, &title, &GO_ON, async |harbor, now| {
        let mut set = ChangeSet::new(&title);
        for course in which.iter().map(|at| &read[*at]) {
            set.extend(match &course.at {
                Stage::Arrived(arrived) => install_one(harbor, course.site, arrived, now)?.changes,
                Stage::Proven { certificate, .. } => {
                    settle_one(harbor, certificate, course.left_out.is_empty())?.changes
                }
                _ => continue,
            });
        }
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    let harbor = context.open()?;
    for at in which {
        let course = &mut courses[*at];
        course.at = match std::mem::replace(&mut course.at, Stage::Ended(Ok(SecureOutcome::NotYet))) {
            Stage::Proven { mut certificate, new } => {
                certificate.state = CertificateState::Served;
                Stage::Settled { certificate, new }
            }
            _ => {
                sessions.forget(course.site);
                let recorded = harbor.store.certificate_of(course.site.main())?;
                let lost = || Error::refused("inventory", "the certificate was not recorded");
                Stage::InPlace { certificate: Box::new(recorded.ok_or_else(lost)?), new: true }
            }
        };
    }
    // One reload serves all, so that one site is enough to see that it is over.
    let mut after = changed.set.inventory_changes().filter_map(|change| match change {
        InventoryChange::ReplaceSite { after, .. } => Some(after),
        _ => None,
    });
    if let Some(site) = after.next() {
        await_fingerprint(&harbor.settings, site, changed.took).await;
    }
    Ok(())
}

/// For the logbook.
fn title(courses: &[Course<'_>], which: &[usize]) -> String {
    let arrived = which.iter().filter(|at| matches!(courses[**at].at, Stage::Arrived(_))).count();
    match (which, arrived) {
        ([only], 1) => format!("certificate issue {}", courses[*only].site.main()),
        ([only], _) => format!("certificate of {} is served", courses[*only].site.main()),
        (several, 0) => format!("certificates of {} sites are served", several.len()),
        (several, all) if all == several.len() => format!("certificate issue for {all} sites"),
        (several, some) => {
            format!("certificate issue for {some} sites; those of {} are served", several.len() - some)
        }
    }
}

fn install_one(harbor: &Harbor, site: &Site, arrived: &Arrived, now: Timestamp) -> Result<ChangeSet, Error> {
    let unreadable = |error| Error::refused("ca-refuses", format!("the certificate that came cannot be read: {error}"));
    let chain = read_chain(arrived.issued.chain_pem.as_bytes()).map_err(unreadable)?;
    if let Some(name) = uncovered(&chain[0].names, &arrived.names).first() {
        let message = format!("the certificate that came does not cover {name}");
        return Err(Error::refused("not-covered", message).advice("it was not installed; ask the CA"));
    }
    let site = site_again(harbor, site.main())?;
    let shared = site.rules.certificate.from.is_some();
    let wanted = Install {
        chain_pem: &arrived.issued.chain_pem,
        key_pem: &arrived.issued.key_pem,
        names: arrived.names.clone(),
        not_before: chain[0].not_before,
        not_after: chain[0].not_after,
        now,
        source: if shared { CertificateSource::Shared } else { CertificateSource::Ca },
        details: CertificateDetails { ca: site.rules.certificate.ca.clone(), wildcards: arrived.wildcards.clone() },
    };
    let file = own_file(harbor, &site, false)?;
    let (set, _) = install(&site, &wanted, file, &harbor.settings, &harbor.layout);
    Ok(set)
}

/// The site as it is now: others may have changed it since it was looked at.
pub fn site_again(harbor: &Harbor, main: &Hostname) -> Result<Site, Error> {
    let site = harbor.store.site_of(main)?;
    site.ok_or_else(|| Error::refused("detached", format!("{main} is not attached any more")))
}

/// A real handshake with every address of this host, for every name: the certificate just installed, and verified.
pub async fn prove(harbor: &Harbor, certificate: &Certificate) -> Result<Result<(), String>, Error> {
    let settings = &harbor.settings;
    let roots = trust::roots(&settings.internet.trust_roots)?;
    let deadline = Instant::now() + Duration::from_secs(4);
    let is_stop_gap = certificate.source == CertificateSource::SelfSigned;
    for name in &certificate.names {
        // Who asks for an address gets to that one.
        let addresses = name.address().map_or_else(|| web_addresses(harbor), |own| vec![own]);
        let mut shown = false;
        for address in addresses {
            let address = SocketAddr::new(address, settings.internet.https_port());
            loop {
                let seen = shake_hands(address, name, Arc::clone(&roots)).await;
                let reason = match seen.outcome {
                    TlsOutcome::NoRoute => break,
                    // Nobody trusts a stop-gap: that it is the one shown is all that a handshake can prove.
                    TlsOutcome::Shown { verified, not_after, .. }
                        if not_after == certificate.not_after && (verified.is_ok() || is_stop_gap) =>
                    {
                        shown = true;
                        break;
                    }
                    TlsOutcome::Shown { verified: Ok(()), .. } => "another certificate is shown".to_string(),
                    TlsOutcome::Shown { verified: Err(reason), .. } | TlsOutcome::Failed(reason) => reason,
                };
                if Instant::now() > deadline {
                    return Ok(Err(format!("{address} for {name}: {reason}")));
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        }
        if !shown {
            return Ok(Err(format!("no address of the web server can be reached from here to ask for {name}")));
        }
    }
    Ok(Ok(()))
}

fn settle_one(harbor: &Harbor, certificate: &Certificate, complete: bool) -> Result<ChangeSet, Error> {
    let main = &certificate.site;
    let site = site_again(harbor, main)?;
    let waiting = harbor.store.waiting_of(main)?;
    // A stop-gap ends no wait for the certificate that it stands in for.
    let complete = complete && certificate.source != CertificateSource::SelfSigned;
    let file = own_file(harbor, &site, false)?;
    let (mut set, after) = force_https(&site, certificate, file, &harbor.settings, &harbor.layout);
    if complete && waiting.is_some() {
        set.inventory(InventoryChange::EndWait { site: main.clone() });
    }
    let nothing_new = after == site && certificate.state == CertificateState::Served;
    if nothing_new && (waiting.is_none() || !complete) {
        set = ChangeSet::new(set.title);
    }
    Ok(set)
}
