//! Drives the core's securing machine: looks, orders, installs, shakes hands and settles, for one site or many. Orders run
//! side by side, and what came is installed by one change with one reload.
//!
//! Used by `attach`, `certificate issue`, `renew` and `revoke`, and `tend`. What is to be done at each stage is decided in
//! `core::certificate::securing`.

mod demands;
mod error;
mod looking;
mod orders;
mod revocations;
mod services;
mod shared;
mod verify;
mod zone_proofs;

use brightharbor_core::certificate::Certificate;
use brightharbor_core::certificate::securing::{
    Course, Present, Readied, Refused, Remembered, SecureOutcome, Secured, Stage, Wanted, install_arrived, remember,
    settle_verified, title,
};
use brightharbor_core::change::Plan;
use brightharbor_core::name::Host;
use brightharbor_core::site::Site;
use futures_util::{StreamExt, stream};

pub use demands::{Demanded, handed_over, look_at_demands, record_is_elsewhere};
pub use error::{StillHas, WorkError};
pub use looking::{Foreseen, foresee};
pub use revocations::{Revoked, carry_through, tell_revocation};
pub use services::{Brought, BroughtProblem, bring, services};
pub use shared::{outdated, shared_chain};

use crate::acme::renewal_window;
use crate::carry_out::Event;
use crate::clock;
use crate::door::{Door, Manner, change};
use crate::harbor::Harbor;
use crate::overlay::Overlay;
use crate::server::await_fingerprint;
use looking::look;
use orders::Sessions;
use verify::verify;

/// Sites that are taken together: one reload for all of them.
const BATCH: usize = 250;
/// Sites that are looked at, or shaken hands with, at once.
const LOOKS_AT_ONCE: usize = 16;

/// The door of work that goes on without asking: the person has asked for it already.
pub type WorkDoor<'a> = Door<'a, WorkError>;

/// Carried out without asking; what somebody has to consent to is left alone.
pub struct GoOn;

impl Manner<WorkError> for GoOn {
    fn is_dry_run(&self) -> bool {
        false
    }

    fn is_shown(&self) -> bool {
        false
    }

    fn consent(&self, plan: &Plan) -> Result<(), WorkError> {
        match plan.consents.first() {
            Some(consent) => Err(WorkError::Consent(Box::new(consent.clone()))),
            None => Ok(()),
        }
    }
}

/// What came of securing each site; one site's trouble keeps no other waiting.
pub type AllSecured = Vec<Result<Secured, WorkError>>;

/// A course, or what has ended it.
type Going = Result<Course, WorkError>;

/// Gets, installs and verifies a certificate for the names of the site that lead here.
pub async fn secure(door: &WorkDoor<'_>, site: &Site, wanted: Wanted) -> Result<Secured, WorkError> {
    let mut secured = secure_all(door, std::slice::from_ref(site), wanted).await?;
    secured.pop().unwrap_or(Err(WorkError::Lost))
}

/// The same for many sites. What the handshakes of one batch have shown is settled by the change that installs the next,
/// with the same reload.
pub async fn secure_all(door: &WorkDoor<'_>, sites: &[Site], wanted: Wanted) -> Result<AllSecured, WorkError> {
    let sessions = Sessions::new(&(door.open)()?);
    let mut all = Vec::with_capacity(sites.len());
    let mut open: Vec<Going> = Vec::new();
    for batch in sites.chunks(BATCH) {
        let before = open.len();
        open.extend(order_batch(door, &sessions, batch, wanted).await?);
        apply_all(door, &sessions, &mut open).await;
        verify_batch(door, &mut open[before..]).await?;
        all.extend(open.drain(..before).map(ended));
    }
    apply_all(door, &sessions, &mut open).await;
    all.extend(open.into_iter().map(ended));
    Ok(all)
}

/// Verifies a certificate that was put in place by another way, and sends http to https if it is shown.
pub async fn verify_installed(door: &WorkDoor<'_>, main: &Host) -> Result<Secured, WorkError> {
    let harbor = (door.open)()?;
    let certificate = harbor.store.certificate_of(main)?.ok_or(WorkError::Lost)?;
    let site = harbor.store.site_of(main)?.ok_or(WorkError::Lost)?;
    let mut course = Course::in_place(&site, &certificate);
    verify_one(&harbor, &mut course).await?;
    let mut all = [Ok(course)];
    apply_all(door, &Sessions::new(&harbor), &mut all).await;
    let [course] = all;
    ended(course)
}

fn ended(course: Going) -> Result<Secured, WorkError> {
    course.and_then(|course| course.ended().ok_or(WorkError::Lost))
}

/// The sites whose certificates their CAs want to be renewed by now, whatever their dates say.
pub async fn called_back(door: &WorkDoor<'_>, certificates: &[Certificate]) -> Result<Vec<Host>, WorkError> {
    let harbor = (door.open)()?;
    let (sessions, now) = (Sessions::new(&harbor), clock::now());
    let asked = certificates.iter().map(|certificate| {
        let (sessions, harbor) = (&sessions, &harbor);
        async move {
            let session = sessions.get(harbor, certificate.details.ca.as_deref()).ok()?;
            let window = renewal_window(session, &certificate.site, &certificate.files, now).await?;
            (window.moment(certificate.site.as_str()) <= now).then(|| certificate.site.clone())
        }
    });
    (door.tell)(Event::AskingWhenToRenew);
    let due: Vec<Option<Host>> = stream::iter(asked).buffered(LOOKS_AT_ONCE).collect().await;
    Ok(due.into_iter().flatten().collect())
}

/// Looks at the sites, then orders for them. Side by side, looks and orders would only share the same core, and the CA
/// would wait.
async fn order_batch(
    door: &WorkDoor<'_>,
    sessions: &Sessions,
    sites: &[Site],
    wanted: Wanted,
) -> Result<Vec<Going>, WorkError> {
    let harbor = (door.open)()?;
    (door.tell)(Event::LookingWhereNamesLead);
    let looks = sites.iter().map(|site| look_first(&harbor, site, wanted));
    let mut courses: Vec<Going> = stream::iter(looks).buffered(LOOKS_AT_ONCE).collect().await;
    let going = courses.iter_mut().filter_map(|course| course.as_mut().ok());
    let orders = going.map(|course| orders::order_one(door, &harbor, sessions, course));
    let refused: Vec<Option<Refused>> = stream::iter(orders).buffered(BATCH).collect().await;
    remember_all(door, refused.into_iter().flatten().collect()).await?;
    Ok(courses)
}

/// Says what is to be done for a site, before the CA is asked for anything.
async fn look_first(harbor: &Harbor, site: &Site, wanted: Wanted) -> Going {
    let present = present_of(harbor, site)?;
    let shared = match wanted {
        Wanted::Verification => None,
        _ => shared::issued_of_source(harbor, site).await?,
    };
    let shared = shared.as_ref().map(|shared| shared.as_ref().map_err(Clone::clone));
    if wanted != Wanted::Verification {
        refuse_hand_edit(harbor, site)?;
    }
    let mut course = Course::begin(site, wanted, present.as_ref(), shared)?;
    if matches!(course.stage, Stage::ToLook) {
        let mut looked = match Course::needs_no_look(site) {
            Some(looked) => looked,
            None => look(harbor, site).await?,
        };
        looked.paused = harbor.store.pauses_of(site.main())?;
        let ca = harbor.settings.ca_named(site.rules.certificate.ca.as_deref());
        let when_urgent = ca.map(|ca| ca.when_urgent).unwrap_or_default();
        course.looked(looked, wanted, present, when_urgent, clock::now());
    }
    Ok(course)
}

/// A certificate that cannot be installed would be wasted.
fn refuse_hand_edit(harbor: &Harbor, site: &Site) -> Result<(), WorkError> {
    let path = harbor.layout.site_file(harbor.settings.web.server, site.main());
    let file = crate::install::read_if_there(&path).map_err(crate::load::LoadError::from)?;
    let edit = brightharbor_core::site::hand_edit(site, file.as_deref(), &harbor.settings, &harbor.layout);
    match edit {
        Some(consent) => Err(WorkError::Consent(Box::new(consent))),
        None => Ok(()),
    }
}

fn present_of(harbor: &Harbor, site: &Site) -> Result<Option<Present>, WorkError> {
    let Some(certificate) = harbor.store.certificate_of(site.main())? else { return Ok(None) };
    let chain_pem = std::fs::read_to_string(certificate.files.chain()).ok();
    let read = |pem: &String| brightharbor_core::certificate::read_chain(pem.as_bytes()).ok();
    let key = chain_pem.as_ref().and_then(read).and_then(|chain| chain.into_iter().next()).map(|leaf| leaf.key);
    // Judged for a name that it covers: which it covers is another question.
    let covered = site.hostnames.iter().find(|host| certificate.covers(host));
    let roots = crate::trust::roots(&harbor.settings.internet.trust_roots).ok();
    let trusted = match (&chain_pem, covered, roots) {
        (Some(pem), Some(host), Some(roots)) => crate::trust::judge_pem(pem, host, &roots, clock::now()).is_ok(),
        _ => false,
    };
    Ok(Some(Present { certificate, key, chain_pem, trusted }))
}

/// Installs what has arrived, and settles what handshakes have shown. If that fails for all together, each half is tried
/// alone, so that the one that cannot be installed is found and holds up no other.
async fn apply_all(door: &WorkDoor<'_>, sessions: &Sessions, courses: &mut [Going]) {
    let due = |at: &usize| courses[*at].as_ref().is_ok_and(Course::is_to_apply);
    let mut parts: Vec<Vec<usize>> = vec![(0..courses.len()).filter(due).collect()];
    (door.tell)(Event::InstallingCertificates);
    while let Some(mut part) = parts.pop() {
        if part.is_empty() {
            continue;
        }
        let Err(error) = apply_some(door, sessions, courses, &part).await else { continue };
        match part[..] {
            [only] => courses[only] = Err(error),
            _ => {
                let second = part.split_off(part.len() / 2);
                parts.extend([second, part]);
            }
        }
    }
}

async fn apply_some(
    door: &WorkDoor<'_>,
    sessions: &Sessions,
    courses: &mut [Going],
    which: &[usize],
) -> Result<(), WorkError> {
    let chosen: Vec<Course> = which.iter().filter_map(|at| courses[*at].as_ref().ok().cloned()).collect();
    let title = title(&chosen.iter().collect::<Vec<_>>());
    let (changed, ()) = change(door, &title, &GoOn, async |overlay, now| {
        let mut plan = Plan::new(&title);
        for course in &chosen {
            let main = course.site.main();
            let readied = readied(overlay, main)?;
            let (settings, layout) = (&overlay.settings, &overlay.layout);
            plan.extend(match &course.stage {
                Stage::Arrived(arrived) => install_arrived(arrived, &readied, settings, layout, now)?,
                Stage::Verified { certificate, shown, .. } => {
                    settle_verified(certificate, shown, &readied, settings, layout)
                }
                _ => continue,
            });
        }
        Ok((plan, ()))
    })
    .await?;
    let harbor = (door.open)()?;
    for at in which {
        let Ok(course) = &mut courses[*at] else { continue };
        if let Stage::Arrived(arrived) = &course.stage {
            sessions.forget(&arrived.ca, &course.site);
        }
        course.applied(harbor.store.certificate_of(course.site.main())?)?;
    }
    // One reload serves all, so that one site is enough to see that it is over.
    if let (Some(site), Some(_)) = (changed.plan.changed_site(), changed.entry) {
        await_fingerprint(&harbor.settings, site, changed.took).await;
    }
    Ok(())
}

/// The site as it is now: others may have changed it since it was looked at.
fn readied(overlay: &Overlay<'_>, main: &Host) -> Result<Readied, WorkError> {
    use brightharbor_core::certificate::CertificateRefusal;
    let site = overlay.site_of(main)?.ok_or_else(|| CertificateRefusal::Detached(main.clone()))?;
    let site_file = overlay.site_file(&site).map_err(crate::load::LoadError::from)?;
    Ok(Readied { site_file, waiting: overlay.store.waiting_of(main)?, site })
}

/// Shakes hands with all that are in place.
async fn verify_batch(door: &WorkDoor<'_>, courses: &mut [Going]) -> Result<(), WorkError> {
    // What was installed is in the inventory now.
    let harbor = (door.open)()?;
    (door.tell)(Event::VerifyingCertificates);
    let checks = courses.iter_mut().map(|going| {
        let harbor = &harbor;
        async move {
            if let Ok(course) = going
                && let Err(error) = verify_one(harbor, course).await
            {
                *going = Err(error);
            }
        }
    });
    stream::iter(checks).buffered(LOOKS_AT_ONCE).collect::<Vec<()>>().await;
    let partly = courses.iter().filter_map(|course| course.as_ref().ok()?.partly_refused()).collect();
    remember_all(door, partly).await
}

async fn verify_one(harbor: &Harbor, course: &mut Course) -> Result<(), WorkError> {
    if let Stage::InPlace { certificate, .. } = &course.stage {
        let shown = verify(harbor, &course.site, certificate).await?;
        course.shown(shown);
    }
    Ok(())
}

/// Keeps for `tend` what could not be done.
async fn remember_all(door: &WorkDoor<'_>, refused: Vec<Refused>) -> Result<(), WorkError> {
    if refused.is_empty() {
        return Ok(());
    }
    change(door, "remember to get certificates", &GoOn, async |overlay, now| {
        let mut remembered = Vec::with_capacity(refused.len());
        for one in &refused {
            // A site that was detached meanwhile waits for nothing.
            if overlay.site_of(&one.site)?.is_some() {
                let waiting = overlay.store.waiting_of(&one.site)?;
                let pauses = overlay.store.pauses_of(&one.site)?;
                remembered.push(Remembered { refused: one.clone(), waiting, pauses });
            }
        }
        Ok((remember(&remembered, now), ()))
    })
    .await?;
    Ok(())
}

/// What came of a site that could not even be tried.
pub fn outcome_of(site: &Host, code: &'static str, reason: String) -> Secured {
    use brightharbor_core::certificate::securing::NotIssued;
    let why = NotIssued { code, reason, not_before: None, busy: false, names: vec![] };
    Secured { site: site.clone(), outcome: SecureOutcome::Refused { why, kept: None }, left_out: vec![] }
}
