//! `tend`: the scheduled job. Takes back what a killed command left, gets the certificates that wait for their links,
//! and renews those that are due. What it tells is in `report`.

mod notices;
mod report;
mod running_out;
mod signing;
mod staples;

use std::collections::HashSet;
use std::path::PathBuf;

use brightharbor_core::certificate::due::{due, is_awaited, to_ask_about};
use brightharbor_core::certificate::former::{FormerCertificate, forget, over_before};
use brightharbor_core::certificate::revocation::{forget_over, found_revoked};
use brightharbor_core::certificate::securing::Wanted;
use brightharbor_core::certificate::{Certificate, CertificateRemark, CertificateState};
use brightharbor_core::change::Remark;
use brightharbor_core::name::Host;
use brightharbor_core::redirect::end_redirects;
use brightharbor_core::site::{FILES_AT_ONCE, first_of_part, out_of_step, pool_out_of_step};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{clear_away, read_if_there, write_atomically};
use brightharbor_io::secure::{bring, called_back, carry_through, outdated, secure_all};
use brightharbor_io::{clock, load};
use clap::Args;
use jiff::Timestamp;

use self::report::Tended;
use self::running_out::RunningOut;
use crate::commands::Report;
use crate::demanding::tend_demands;
use crate::error::{Error, tried};
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::json::BroughtDocument;

/// Former certificates that one run clears away: the next one goes on.
const CLEARED_AT_ONCE: usize = 1_000;

/// Complete pending work and renew certificates. Made to be run by a timer, every few minutes.
#[derive(Debug, Args)]
pub struct Tend {
    /// Say what would be tried, and do nothing.
    #[arg(long)]
    dry_run: bool,
    /// Do not ask for confirmation (a timer is never asked).
    #[arg(long)]
    yes: bool,
    /// Write when this ran and what it found to this file, in the text format of Prometheus.
    #[arg(long, value_name = "FILE", conflicts_with = "dry_run")]
    metrics: Option<PathBuf>,
}

pub fn run(args: &Tend, context: &Context) -> Report {
    context.block_on(tend(args, context))?
}

/// What ends with the day: redirects, former certificates, demands of sellers.
async fn end_what_is_over(context: &Context, report: &mut Tended) -> Result<(), Error> {
    // Asked by the timer; no file that somebody has edited by hand is written over, since the decisions leave it alone.
    let yes = ChangeOptions { dry_run: false, yes: true };
    let (ended, stuck) = change(context, "tend", &yes, async |overlay, now| {
        let sites = load::sites_with_files(overlay, overlay.store.sites_with_redirects(None)?)?;
        Ok(end_redirects(&sites, &overlay.settings, &overlay.layout, now))
    })
    .await?;
    report.ended = ended.plan.remarks;
    report.stuck = stuck;
    // The files go before they are forgotten, so that a run that is killed in between leaves none that nobody knows.
    let cleared = clear_files(&context.open()?, clock::now())?;
    let title = "tend: clear away certificates that are over";
    let (forgotten, ()) = change(context, title, &yes, async |overlay, now| {
        let mut plan = forget(&cleared.gone);
        plan.extend(forget_over(&overlay.store.revocations()?, now));
        Ok((plan, ()))
    })
    .await?;
    report.ended.extend(forgotten.plan.remarks);
    report.ended.extend(cleared.stuck);
    note_revoked(context, report).await?;
    let (ended, demanded) = tend_demands(context).await?;
    report.ended.extend(ended);
    report.demanded = demanded;
    Ok(())
}

/// What a CA has revoked unasked is known from then on: this very run gets another.
async fn note_revoked(context: &Context, report: &mut Tended) -> Result<(), Error> {
    let found = load::revoked_elsewhere(&context.open()?, clock::now()).await?;
    if found.is_empty() {
        return Ok(());
    }
    let yes = ChangeOptions { dry_run: false, yes: true };
    let title = "tend: certificates that their CA has revoked";
    let (noted, ()) = change(context, title, &yes, async |_, _| Ok((found_revoked(&found), ()))).await?;
    report.ended.extend(noted.plan.remarks);
    Ok(())
}

/// Former certificates whose files went, and those whose files could not.
struct Cleared {
    gone: Vec<FormerCertificate>,
    stuck: Vec<Remark>,
}

fn clear_files(harbor: &Harbor, now: Timestamp) -> Result<Cleared, Error> {
    let mut cleared = Cleared { gone: vec![], stuck: vec![] };
    for former in harbor.store.former_certificates(over_before(now), CLEARED_AT_ONCE)? {
        match clear_away(&former, harbor.settings.web.server, &harbor.layout) {
            Ok(true) => cleared.gone.push(former),
            Ok(false) => {}
            Err(error) => {
                let (site, reason) = (former.site, error.to_string());
                cleared.stuck.push(CertificateRemark::FormerStays { site, reason }.into());
            }
        }
    }
    Ok(cleared)
}

async fn tend(args: &Tend, context: &Context) -> Report {
    let mut report = Tended::new(args.dry_run);
    if !args.dry_run {
        end_what_is_over(context, &mut report).await?;
    }
    let harbor = context.open()?;
    let now = clock::now();
    let (waiting, certificates) = (harbor.store.all_waiting()?, harbor.store.all_certificates()?);
    let asked: Vec<Certificate> = to_ask_about(&certificates, &waiting, now).cloned().collect();
    let called_back = context.work(async |door| called_back(door, &asked).await).await?;
    report.out_of_step = out_of_step_sites(&harbor, now)?;
    let zones = harbor.store.zones()?;
    let part = zones.iter().skip(first_of_part(zones.len(), now)).take(FILES_AT_ONCE);
    report.edited_zones = load::edited_by_hand(&harbor, part)?;
    let awaited = awaited(&harbor, now)?;
    let due = due(waiting, &certificates, awaited, outdated(&harbor, &certificates)?, called_back, now);
    let revocations = harbor.store.revocations()?;
    report.later = due.later;
    let turns =
        [(due.wanting, Wanted::InTurn), (due.called_back, Wanted::CalledBack), (due.unproven, Wanted::Verification)];
    if args.dry_run {
        report.paused = harbor.store.all_pauses(now)?;
        report.would = turns.into_iter().flat_map(|(sites, _)| sites).collect();
        for revocation in revocations {
            if !report.would.contains(&revocation.site) {
                report.would.push(revocation.site);
            }
        }
        return Ok(Box::new(report));
    }
    for (names, wanted) in turns {
        let mut sites = Vec::with_capacity(names.len());
        for name in names {
            sites.extend(harbor.store.site_of(&name)?);
        }
        let all = context.work(async |door| secure_all(door, &sites, wanted).await).await?;
        report.tried.extend(sites.iter().zip(all).map(|(site, secured)| tried(site, secured)));
    }
    // Not while its successor cannot be asked for.
    let held_back = |site: &Host| report.later.iter().any(|later| later.site == *site);
    for revocation in revocations.into_iter().filter(|one| !held_back(&one.site)) {
        let revoked = context.work(async |door| Ok(carry_through(door, &revocation).await)).await?;
        report.revoked.push((revocation.site, revoked.map_err(Error::from)));
    }
    report.staples = staples::renew(context).await?;
    report.signing = signing::watch(context).await?;
    // What was renewed just now, or by hand since the last run, reaches the services.
    let brought = context.work(async |door| bring(door, None).await).await?;
    let told = brought.iter().filter(|brought| brought.new || brought.problem.is_some());
    report.brought = told.map(BroughtDocument::from).collect();
    // Those of this run too, and what had to wait when it began.
    let harbor = context.open()?;
    report.paused = harbor.store.all_pauses(now)?;
    report.running_out = running_out(&harbor, now)?;
    report.backup = harbor.store.back_up_daily(now).map_err(|error| error.to_string());
    report.notified = notices::tell(&harbor, &report, now).await?;
    if let Some(path) = &args.metrics {
        // What was done is reported all the same.
        let written = write_atomically(path, report.metrics().as_bytes(), 0o644);
        report.metrics_failed = written.err().map(|error| error.to_string());
    }
    Ok(Box::new(report))
}

/// The sites whose files are not as they would be written now.
fn out_of_step_sites(harbor: &Harbor, now: Timestamp) -> Result<Vec<Host>, Error> {
    let first = first_of_part(harbor.store.count_all_sites()?, now);
    let mut found = Vec::new();
    let sites = harbor.store.some_sites(first, FILES_AT_ONCE)?;
    for (site, pool) in load::pools_of(harbor, &sites)? {
        found.extend(pool_out_of_step(&pool, &harbor.settings, &harbor.layout).map(|_| site));
    }
    for site in sites {
        let path = harbor.layout.site_file(harbor.settings.web.server, site.main());
        let file = read_if_there(&path)?;
        // What the web server must not obey is refused where it is taken in.
        let own = load::own_directives(&harbor.settings, &harbor.layout, site.main()).ok().flatten();
        let one = out_of_step(&site, own.as_ref(), file.as_deref(), &harbor.settings, &harbor.layout);
        found.extend(one.map(|(one, _)| one.site));
    }
    // A site and the pool of its account are two files.
    let mut known = HashSet::new();
    found.retain(|site: &Host| known.insert(site.clone()));
    Ok(found)
}

/// The certificates that are over, and those that will be soon and that nobody here renews.
fn running_out(harbor: &Harbor, now: Timestamp) -> Result<Vec<RunningOut>, Error> {
    let mut all = Vec::new();
    for certificate in harbor.store.all_certificates()? {
        let is_over = certificate.not_after <= now;
        // Ours are got anew by this run, or told as tried in vain.
        let is_revoked = certificate.state == CertificateState::Revoked && !certificate.is_renewed_here();
        if !is_over && !is_revoked && !certificate.runs_out_soon(now) {
            continue;
        }
        let Some(site) = harbor.store.site_of(&certificate.site)? else { continue };
        let email = harbor.store.account(&site.account)?.map(|account| account.email);
        all.push(RunningOut { account: site.account, email, certificate, is_over: is_over || is_revoked });
    }
    all.sort_by_key(|one| one.certificate.not_after);
    Ok(all)
}

/// The sites with names that are without a certificate, where one is to be got.
fn awaited(harbor: &Harbor, now: Timestamp) -> Result<Vec<Host>, Error> {
    let mut awaited = Vec::new();
    if harbor.settings.ca.directory.is_none() && harbor.settings.cas.is_empty() {
        return Ok(awaited);
    }
    for main in harbor.store.sites_without_cover(now)? {
        let certificate = harbor.store.certificate_of(&main)?;
        let site = harbor.store.site_of(&main)?;
        if site.is_some_and(|site| is_awaited(&site, certificate.as_ref(), &harbor.settings)) {
            awaited.push(main);
        }
    }
    Ok(awaited)
}
