//! From links that hold to a served certificate: order, install, prove by a handshake, then send http to https.
//!
//! Used by `attach`, `certificate issue` and `tend`, for one site or many: orders run side by side, and what came is
//! installed by one change with one reload. What cannot be done yet is remembered for `tend`.

mod askable;
mod course;
mod installing;
mod orders;
mod remembering;
mod shared;
mod zone_proofs;

use brightharbor_core::certificate::read_chain;
use brightharbor_core::certificate::{Certificate, CertificateSource, CertificateState, CertificateWish};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_io::acme::{OrderError, renewal_window};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use futures_util::{StreamExt, stream};

use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::Context;
use crate::site_change::own_file;
use askable::{Askable, askable};
pub use askable::{Foreseen, foresee};
use course::{Course, Stage};
pub use course::{Kept, SecureOutcome, Secured};
use installing::{Arrived, apply_all, prove};
use orders::{Sessions, Took};
pub use shared::{outdated, shareable};

use remembering::{Refused, not_before, remember_all};

/// Carried out without asking: the person has asked for it already.
const GO_ON: ChangeOptions = ChangeOptions { dry_run: false, yes: true };
/// Sites that are taken together: one reload for all of them.
const BATCH: usize = 250;
/// Sites that are looked at, or shaken hands with, at once.
const LOOKS_AT_ONCE: usize = 16;

/// Whether a certificate that is good already will do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    Enough,
    New,
    /// With another key too, even where the site keeps its key: this one may be known to somebody else.
    NewKey,
    /// None is ordered: whether a handshake shows by now what was installed.
    Proof,
}

/// Gets, installs and proves a certificate for the names of the site that lead here, unless there is a good one.
pub async fn secure(context: &Context, site: &Site) -> Result<Secured, Error> {
    secure_as(context, site, Wanted::Enough).await
}

/// The same, or a new one whatever is there.
pub async fn secure_as(context: &Context, site: &Site, wanted: Wanted) -> Result<Secured, Error> {
    let mut secured = secure_all(context, std::slice::from_ref(site), wanted).await?;
    secured.pop().unwrap_or_else(|| Err(Error::refused("inventory", "the site was lost")))
}

/// The same for many sites. One site's trouble keeps no other waiting.
///
/// What the handshakes of one batch have proven is settled by the change that installs the next, with the same reload.
pub async fn secure_all(
    context: &Context,
    sites: &[Site],
    wanted: Wanted,
) -> Result<Vec<Result<Secured, Error>>, Error> {
    let sessions = Sessions::new(&context.open()?);
    let mut all = Vec::with_capacity(sites.len());
    let mut open: Vec<Course<'_>> = Vec::new();
    for batch in sites.chunks(BATCH) {
        let before = open.len();
        open.extend(order_batch(context, &sessions, batch, wanted).await?);
        apply_all(context, &sessions, &mut open).await;
        prove_batch(context, &mut open[before..]).await?;
        all.extend(open.drain(..before).map(Course::ended));
    }
    apply_all(context, &sessions, &mut open).await;
    all.extend(open.into_iter().map(Course::ended));
    Ok(all)
}

/// The sites whose certificates their CAs want to be renewed by now, whatever their dates say.
pub async fn called_back(context: &Context, harbor: &Harbor, certificates: &[Certificate]) -> Vec<Hostname> {
    let sessions = Sessions::new(harbor);
    let now = clock::now();
    let asked = certificates.iter().map(|certificate| {
        let sessions = &sessions;
        async move {
            let session = sessions.get(harbor, certificate.details.ca.as_deref()).ok()?;
            let window = renewal_window(session, &certificate.site, &certificate.files, now).await?;
            (window.moment(certificate.site.as_str()) <= now).then(|| certificate.site.clone())
        }
    });
    context.progress.doing("asking when certificates should be renewed");
    let due: Vec<Option<Hostname>> = stream::iter(asked).buffered(LOOKS_AT_ONCE).collect().await;
    due.into_iter().flatten().collect()
}

/// Looks at the sites, then orders for them. Side by side, looks and orders would only share the same core, and the CA
/// would wait.
async fn order_batch<'a>(
    context: &Context,
    sessions: &Sessions,
    sites: &'a [Site],
    wanted: Wanted,
) -> Result<Vec<Course<'a>>, Error> {
    let harbor = context.open()?;
    context.progress.doing("looking where the names lead");
    let looks = sites.iter().map(|site| look_first(&harbor, site, wanted));
    let mut courses: Vec<Course<'a>> = stream::iter(looks).buffered(LOOKS_AT_ONCE).collect().await;
    let orders = courses.iter_mut().map(|course| order_one(context, &harbor, sessions, course));
    let refused: Vec<Option<Refused>> = stream::iter(orders).buffered(BATCH).collect().await;
    remember_all(context, refused.into_iter().flatten().collect()).await?;
    Ok(courses)
}

/// Shakes hands with all that are in place.
async fn prove_batch(context: &Context, courses: &mut [Course<'_>]) -> Result<(), Error> {
    // What was installed is in the inventory now.
    let harbor = context.open()?;
    context.progress.doing("proving certificates by handshakes");
    let proofs = courses.iter_mut().map(|course| prove_one(&harbor, course));
    stream::iter(proofs).buffered(LOOKS_AT_ONCE).collect::<Vec<()>>().await;
    let partly = courses.iter().filter_map(Refused::partly).collect();
    remember_all(context, partly).await
}

/// Says what is to be done for a site, before the CA is asked for anything.
async fn look_first<'a>(harbor: &Harbor, site: &'a Site, wanted: Wanted) -> Course<'a> {
    let mut course =
        Course { site, left_out: vec![], left_at_look: 0, stale: None, at: Stage::Ended(Ok(SecureOutcome::NotYet)) };
    if let Err(error) = look_into(harbor, &mut course, wanted).await {
        course.at = Stage::Ended(Err(error));
    }
    course
}

async fn look_into(harbor: &Harbor, course: &mut Course<'_>, wanted: Wanted) -> Result<(), Error> {
    let site = course.site;
    let wish = &site.rules.certificate;
    if wanted == Wanted::Proof {
        if let Some(present) = harbor.store.certificate_of(site.main())? {
            course.at = Stage::InPlace { certificate: Box::new(present), new: false };
        }
        return Ok(());
    }
    // A certificate that cannot be installed would be wasted.
    own_file(harbor, site, false)?;
    if let Some(from) = &wish.from {
        course.at = shared::take(harbor, site, from)?;
        return Ok(());
    }
    let Askable { names, proof, left_out, zones, stale } = askable(harbor, site).await?;
    (course.left_at_look, course.left_out, course.stale) = (left_out.len(), left_out, stale);
    if names.is_empty() {
        return Ok(());
    }
    let present = harbor.store.certificate_of(site.main())?;
    // One that was imported is good until it ends; a stop-gap never is, nor what was another site's.
    let is_enough = |certificate: &Certificate| {
        let covers = names.iter().all(|name| certificate.covers(name))
            && wish.is_met_by(certificate, key_of(certificate).as_deref());
        let lasts = !certificate.is_due(clock::now()) && certificate.not_after > clock::now();
        let own = matches!(certificate.source, CertificateSource::Ca | CertificateSource::Imported);
        wanted == Wanted::Enough && covers && lasts && own && certificate.state != CertificateState::Revoked
    };
    course.at = match present {
        Some(certificate) if is_enough(&certificate) => {
            Stage::InPlace { certificate: Box::new(certificate), new: false }
        }
        present => {
            // Why one was revoked may be that its key is known.
            let revoked = present.as_ref().is_some_and(|one| one.state == CertificateState::Revoked);
            let keep_key = wish.keep_key && wanted != Wanted::NewKey && !revoked;
            let wish = Box::new(CertificateWish { proof, keep_key, ..(**wish).clone() });
            Stage::ToOrder { names, present, wish, zones }
        }
    };
    Ok(())
}

/// The kind of the key that an installed certificate is for.
fn key_of(certificate: &Certificate) -> Option<String> {
    let chain = std::fs::read(certificate.files.chain()).ok().and_then(|pem| read_chain(&pem).ok())?;
    chain.into_iter().next().map(|leaf| leaf.key)
}

/// Orders, if there is something to order. Gives what is to be remembered when nothing came of it.
async fn order_one(
    context: &Context,
    harbor: &Harbor,
    sessions: &Sessions,
    course: &mut Course<'_>,
) -> Option<Refused> {
    let Stage::ToOrder { names, present, wish, zones } = &course.at else { return None };
    let wanted = orders::ToOrder { names, present: present.as_ref(), wish, zones };
    let took = orders::order_for(context, harbor, sessions, course.site, &wanted).await;
    match took {
        Ok(Took { issued, names, wildcards, refused }) => {
            course.left_out.extend(refused);
            course.at = Stage::Arrived(Box::new(Arrived { issued, names, wildcards }));
            None
        }
        Err(error) => {
            // Whoever is at it remembers what comes of it.
            let remembered = !matches!(error, OrderError::Busy);
            let named = not_before(&error).or(course.stale);
            let refused = Refused { site: course.site.main().clone(), reason: error.to_string(), not_before: named };
            let error = Error::from(error);
            let kept = present.as_ref().map(Kept::of);
            let outcome = SecureOutcome::Refused { reason: error.message, advice: error.advice, kept };
            course.at = Stage::Ended(Ok(outcome));
            remembered.then_some(refused)
        }
    }
}

async fn prove_one(harbor: &Harbor, course: &mut Course<'_>) {
    let Stage::InPlace { certificate, new } = &course.at else { return };
    course.at = match prove(harbor, certificate).await {
        Err(error) => Stage::Ended(Err(error)),
        Ok(Err(reason)) => Stage::Ended(Ok(SecureOutcome::NotShown { certificate: (**certificate).clone(), reason })),
        Ok(Ok(())) => Stage::Proven { certificate: certificate.clone(), new: *new },
    };
}

/// Proves a certificate that was put in place by another way, and sends http to https if it holds.
pub async fn prove_installed(context: &Context, main: &Hostname) -> Result<Secured, Error> {
    let harbor = context.open()?;
    let recorded = harbor.store.certificate_of(main)?;
    let certificate = recorded.ok_or_else(|| Error::refused("inventory", "the certificate was not recorded"))?;
    let site = installing::site_again(&harbor, main)?;
    let at = Stage::InPlace { certificate: Box::new(certificate), new: true };
    let mut courses = [Course { site: &site, left_out: vec![], left_at_look: 0, stale: None, at }];
    prove_one(&harbor, &mut courses[0]).await;
    apply_all(context, &Sessions::new(&harbor), &mut courses).await;
    let [course] = courses;
    course.ended()
}
