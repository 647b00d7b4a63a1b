//! From links that hold to a served certificate: order, install, prove by a handshake, then send http to https.
//!
//! Used by `attach`, `certificate issue` and `tend`. What cannot be done yet is remembered for `tend`.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::{Duration, Instant};

use brightharbor_core::acme::Refusal;
use brightharbor_core::certificate::{Install, force_https, install, read_chain, uncovered};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::{Certificate, CertificateSource, CertificateState, Site, Waiting};
use brightharbor_core::survey::{LinkName, LinkState, Survey, TlsOutcome};
use brightharbor_io::acme::{Issued, OrderError, OrderPlan, forget_order, order};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::probe::shake_hands;
use brightharbor_io::server::await_fingerprint;
use brightharbor_io::{clock, trust};
use jiff::{SignedDuration, Timestamp};

use crate::error::Error;
use crate::look::look_at_site;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::site_change::own_file;

/// What came of trying to secure a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Secured {
    pub site: Hostname,
    pub outcome: SecureOutcome,
    /// The names that the certificate does not cover, with the reason.
    pub left_out: Vec<(Hostname, String)>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SecureOutcome {
    /// Proven by a handshake.
    Served { certificate: Certificate, new: bool },
    /// No name leads here yet.
    NotYet,
    /// The CA has refused, or is still at work.
    Refused { reason: String, advice: Option<String> },
    /// Installed, but the handshake does not show it.
    NotShown { certificate: Certificate, reason: String },
}

/// Between two tries of `tend` after a refusal.
const SHORTEST_PAUSE: SignedDuration = SignedDuration::from_mins(10);
const LONGEST_PAUSE: SignedDuration = SignedDuration::from_hours(24);

/// Carried out without asking: the person has asked for it already.
const GO_ON: ChangeOptions = ChangeOptions { dry_run: false, yes: true };

/// Whether a certificate that is good already will do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    Enough,
    New,
}

/// Gets, installs and proves a certificate for the names of the site that lead here, unless there is a good one.
pub async fn secure(context: &Context, site: &Site) -> Result<Secured, Error> {
    secure_as(context, site, Wanted::Enough).await
}

/// The same, or a new one whatever is there.
pub async fn secure_as(context: &Context, site: &Site, wanted: Wanted) -> Result<Secured, Error> {
    let harbor = context.open()?;
    context.progress.doing("looking where the names lead");
    // Before the CA is asked: a certificate that cannot be installed would be wasted.
    own_file(&harbor, site, false)?;
    let looked = look_at_site(&harbor, site).await?;
    let present = harbor.store.certificate_of(site.main())?;
    let done = |outcome, left_out| Ok(Secured { site: site.main().clone(), outcome, left_out });
    if looked.leading.is_empty() {
        return done(SecureOutcome::NotYet, looked.left_out.clone());
    }
    // One that was imported is good until it ends; a stop-gap never is.
    let enough = present.filter(|certificate| {
        let covers = looked.leading.iter().all(|name| certificate.names.contains(name));
        let lasts = !certificate.is_due(clock::now()) && certificate.not_after > clock::now();
        wanted == Wanted::Enough && covers && lasts && certificate.source != CertificateSource::SelfSigned
    });
    let mut left_out = looked.left_out.clone();
    let (certificate, new) = match enough {
        Some(certificate) => (certificate, false),
        None => match order_for(context, &harbor, site, looked.leading.clone(), &mut left_out).await {
            Ok((issued, names)) => (install_it(context, site.main(), &issued, names).await?, true),
            Err(error) => {
                let stale = stale_until(&looked.surveys);
                remember(context, site, error.to_string(), not_before(&error).or(stale)).await?;
                let error = Error::from(error);
                let outcome = SecureOutcome::Refused { reason: error.message, advice: error.advice };
                return done(outcome, left_out);
            }
        },
    };
    if let Err(reason) = prove(&harbor, &certificate).await? {
        return done(SecureOutcome::NotShown { certificate, reason }, left_out);
    }
    let certificate = settle(context, certificate, left_out.is_empty()).await?;
    let refused_by_ca = left_out.iter().skip(looked.left_out.len()).map(|(name, why)| format!("{name}: {why}"));
    let refused_by_ca = refused_by_ca.collect::<Vec<_>>().join("; ");
    if !refused_by_ca.is_empty() {
        remember(context, site, refused_by_ca, stale_until(&looked.surveys)).await?;
    }
    done(SecureOutcome::Served { certificate, new }, left_out)
}

/// Proves a certificate that was put in place by another way, and sends http to https if it holds.
pub async fn prove_installed(context: &Context, main: &Hostname) -> Result<Secured, Error> {
    let harbor = context.open()?;
    let recorded = harbor.store.certificate_of(main)?;
    let certificate = recorded.ok_or_else(|| Error::refused("inventory", "the certificate was not recorded"))?;
    let outcome = match prove(&harbor, &certificate).await? {
        Err(reason) => SecureOutcome::NotShown { certificate, reason },
        Ok(()) => SecureOutcome::Served { certificate: settle(context, certificate, true).await?, new: true },
    };
    Ok(Secured { site: main.clone(), outcome, left_out: vec![] })
}

/// Orders for all names; a name that the CA cannot validate is left out and the rest is ordered once more.
async fn order_for(
    context: &Context,
    harbor: &Harbor,
    site: &Site,
    mut names: Vec<Hostname>,
    left_out: &mut Vec<(Hostname, String)>,
) -> Result<(Issued, Vec<Hostname>), OrderError> {
    let tell = |what: &'static str| context.progress.doing(&format!("certificate: {what}"));
    for _ in 0..2 {
        let plan = OrderPlan { site: site.main(), names: &names, ca: &harbor.settings.ca, layout: &harbor.layout };
        match order(&plan, &tell).await {
            Err(OrderError::Refused(Refusal::Names(refused))) if refused.len() < names.len() => {
                names.retain(|name| !refused.iter().any(|(bad, _)| bad == name));
                left_out.extend(refused.into_iter().map(|(name, problem)| (name, problem.detail)));
            }
            other => return other.map(|issued| (issued, names)),
        }
    }
    Err(OrderError::StillAtWork { not_before: None })
}

async fn install_it(
    context: &Context,
    main: &Hostname,
    issued: &Issued,
    names: Vec<Hostname>,
) -> Result<Certificate, Error> {
    let unreadable = |error| Error::refused("ca-refuses", format!("the certificate that came cannot be read: {error}"));
    let chain = read_chain(issued.chain_pem.as_bytes()).map_err(unreadable)?;
    if let Some(name) = uncovered(&chain[0].names, &names).first() {
        let message = format!("the certificate that came does not cover {name}");
        return Err(Error::refused("not-covered", message).advice("it was not installed; ask the CA"));
    }
    let title = format!("certificate issue {main}");
    change(context, &title, &GO_ON, async |harbor, now| {
        let site = site_again(harbor, main)?;
        let wanted = Install {
            chain_pem: &issued.chain_pem,
            key_pem: &issued.key_pem,
            names,
            not_before: chain[0].not_before,
            not_after: chain[0].not_after,
            now,
            source: CertificateSource::Ca,
        };
        let file = own_file(harbor, &site, false)?;
        let (set, _) = install(&site, &wanted, file, &harbor.settings, &harbor.layout);
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    let harbor = context.open()?;
    let site = site_again(&harbor, main)?;
    let plan = OrderPlan { site: main, names: &[], ca: &harbor.settings.ca, layout: &harbor.layout };
    forget_order(&plan);
    await_fingerprint(&harbor.settings, &site).await;
    let recorded = harbor.store.certificate_of(main)?;
    recorded.ok_or_else(|| Error::refused("inventory", "the certificate was not recorded"))
}

/// The site as it is now: others may have changed it since it was looked at.
fn site_again(harbor: &Harbor, main: &Hostname) -> Result<Site, Error> {
    let site = harbor.store.site_of(main)?;
    site.ok_or_else(|| Error::refused("detached", format!("{main} is not attached any more")))
}

/// A real handshake with every address of this host, for every name: the certificate just installed, and verified.
async fn prove(harbor: &Harbor, certificate: &Certificate) -> Result<Result<(), String>, Error> {
    let settings = &harbor.settings;
    let roots = trust::roots(&settings.internet.trust_roots)?;
    let listen: &[IpAddr] =
        if settings.web.listen.is_empty() { &settings.host.addresses } else { &settings.web.listen };
    let deadline = Instant::now() + Duration::from_secs(4);
    for address in listen {
        let address = SocketAddr::new(*address, settings.internet.https_port());
        for name in &certificate.names {
            loop {
                let seen = shake_hands(address, name, Arc::clone(&roots)).await;
                let reason = match seen.outcome {
                    TlsOutcome::NoRoute => break,
                    TlsOutcome::Shown { verified: Ok(()), not_after, .. } if not_after == certificate.not_after => {
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
    }
    Ok(Ok(()))
}

/// The handshake has shown it: http is sent to https, and nothing waits any more if every name is covered.
async fn settle(context: &Context, certificate: Certificate, complete: bool) -> Result<Certificate, Error> {
    let main = certificate.site.clone();
    let title = format!("certificate prove {main}");
    change(context, &title, &GO_ON, async |harbor, _| {
        let site = site_again(harbor, &main)?;
        let waiting = harbor.store.waiting_of(&main)?;
        let file = own_file(harbor, &site, false)?;
        let (mut set, after) = force_https(&site, &certificate, file, &harbor.settings, &harbor.layout);
        if complete && waiting.is_some() {
            set.inventory(InventoryChange::EndWait { site: main.clone() });
        }
        let nothing_new = after == site && certificate.state == CertificateState::Served;
        if nothing_new && (waiting.is_none() || !complete) {
            set = ChangeSet::new(set.title);
        }
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    let harbor = context.open()?;
    await_fingerprint(&harbor.settings, &site_again(&harbor, &main)?).await;
    Ok(Certificate { state: CertificateState::Served, ..certificate })
}

/// Until when resolvers may still give an old answer, where one of them was seen to.
fn stale_until(surveys: &[Survey]) -> Option<Timestamp> {
    let links = surveys.iter().flat_map(|survey| &survey.links).filter(|link| link.name == LinkName::Resolves);
    links.filter_map(|link| if let LinkState::Waiting(until) = link.state { until } else { None }).max()
}

/// The time that the CA itself has named.
fn not_before(error: &OrderError) -> Option<Timestamp> {
    match error {
        OrderError::Refused(Refusal::Problem { not_before, .. }) => *not_before,
        OrderError::StillAtWork { not_before } => *not_before,
        _ => None,
    }
}

/// Keeps the reason, and the time before which trying again is pointless. CAs count failed attempts: without a time
/// that somebody has named, the pause grows with the time that it has been tried for.
async fn remember(context: &Context, site: &Site, reason: String, named: Option<Timestamp>) -> Result<(), Error> {
    let main = site.main().clone();
    let title = format!("remember to get a certificate for {main}");
    change(context, &title, &GO_ON, async |harbor, now| {
        let mut set = ChangeSet::new(&title);
        // Counted from the first refusal: before it, only the links were waited for.
        let refused_before = harbor.store.waiting_of(&main)?.filter(|waiting| !waiting.reason.is_empty());
        let since = refused_before.map_or(now, |waiting| waiting.since);
        let pause = (now.duration_since(since) / 2).clamp(SHORTEST_PAUSE, LONGEST_PAUSE);
        let not_before = named.or_else(|| now.checked_add(pause).ok());
        set.inventory(InventoryChange::Await(Waiting { site: main, since, not_before, reason }));
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    Ok(())
}
