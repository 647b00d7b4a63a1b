//! Puts certificates in place, proves them, and sends http to https: many sites by one change, with one reload.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use brightharbor_core::certificate::{Install, force_https, install, read_chain, uncovered};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::{Certificate, CertificateDetails, CertificateSource, CertificateState, Site};
use brightharbor_core::survey::TlsOutcome;
use brightharbor_io::acme::Issued;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::probe::shake_hands;
use brightharbor_io::server::await_fingerprint;
use brightharbor_io::trust;
use jiff::Timestamp;

use super::orders::{Sessions, web_addresses};
use super::{Course, GO_ON, SecureOutcome, Stage};
use crate::error::Error;
use crate::run::{Context, Decision, change};
use crate::site_change::own_file;

/// A certificate that has come from the CA.
pub struct Arrived {
    pub issued: Issued,
    pub names: Vec<Hostname>,
    pub wildcards: Vec<Hostname>,
}

/// Installs what has arrived. If that fails for all together, each is tried alone, so that the one that cannot be
/// installed holds up no other.
pub async fn install_all(context: &Context, sessions: &Sessions, courses: &mut [Course<'_>]) {
    let waiting: Vec<usize> = (0..courses.len()).filter(|at| matches!(courses[*at].at, Stage::Arrived(_))).collect();
    if waiting.is_empty() {
        return;
    }
    context.progress.doing("installing certificates");
    let Err(error) = install_some(context, sessions, courses, &waiting).await else { return };
    if let [only] = waiting[..] {
        courses[only].at = Stage::Ended(Err(error));
        return;
    }
    for at in waiting {
        if let Err(error) = install_some(context, sessions, courses, &[at]).await {
            courses[at].at = Stage::Ended(Err(error));
        }
    }
}

async fn install_some(
    context: &Context,
    sessions: &Sessions,
    courses: &mut [Course<'_>],
    which: &[usize],
) -> Result<(), Error> {
    let title = match which {
        [only] => format!("certificate issue {}", courses[*only].site.main()),
        several => format!("certificate issue for {} sites", several.len()),
    };
    let read: &[Course<'_>] = courses;
    change(context, &title, &GO_ON, async |harbor, now| {
        let mut set = ChangeSet::new(&title);
        for at in which {
            let Stage::Arrived(arrived) = &read[*at].at else { continue };
            set.extend(install_one(harbor, read[*at].site, arrived, now)?.changes);
        }
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    let harbor = context.open()?;
    for at in which {
        let main = courses[*at].site.main();
        let lost = || Error::refused("inventory", "the certificate was not recorded");
        let certificate = harbor.store.certificate_of(main)?.ok_or_else(lost)?;
        sessions.forget(courses[*at].site);
        courses[*at].at = Stage::InPlace { certificate: Box::new(certificate), new: true };
    }
    // One reload serves all, so that one site is enough to see that it is over.
    if let Some(first) = which.first() {
        await_fingerprint(&harbor.settings, &site_again(&harbor, courses[*first].site.main())?).await;
    }
    Ok(())
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

/// The handshakes have shown them: http is sent to https, and nothing waits any more where every name is covered.
pub async fn settle_all(context: &Context, courses: &mut [Course<'_>]) {
    let proven: Vec<usize> = (0..courses.len()).filter(|at| matches!(courses[*at].at, Stage::Proven { .. })).collect();
    if proven.is_empty() {
        return;
    }
    match settle_some(context, courses, &proven).await {
        Ok(()) => {}
        Err(error) if proven.len() == 1 => courses[proven[0]].at = Stage::Ended(Err(error)),
        Err(_) => {
            for at in proven {
                if let Err(error) = settle_some(context, courses, &[at]).await {
                    courses[at].at = Stage::Ended(Err(error));
                }
            }
        }
    }
}

async fn settle_some(context: &Context, courses: &mut [Course<'_>], which: &[usize]) -> Result<(), Error> {
    let title = match which {
        [only] => format!("certificate of {} is served", courses[*only].site.main()),
        several => format!("certificates of {} sites are served", several.len()),
    };
    let read: &[Course<'_>] = courses;
    let changed = change(context, &title, &GO_ON, async |harbor, _| {
        let mut set = ChangeSet::new(&title);
        for at in which {
            let Stage::Proven { certificate, .. } = &read[*at].at else { continue };
            set.extend(settle_one(harbor, certificate, read[*at].left_out.is_empty())?.changes);
        }
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    let harbor = context.open()?;
    for at in which {
        if let Stage::Proven { certificate, .. } = &mut courses[*at].at {
            certificate.state = CertificateState::Served;
        }
    }
    let changed_site = changed.set.inventory_changes().find_map(|change| match change {
        InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
        _ => None,
    });
    if let Some(site) = changed_site {
        await_fingerprint(&harbor.settings, &site).await;
    }
    Ok(())
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

impl Course<'_> {
    /// Whether a certificate is served after all that.
    pub fn is_served(&self) -> bool {
        matches!(self.at, Stage::Proven { .. } | Stage::Ended(Ok(SecureOutcome::Served { .. })))
    }
}
