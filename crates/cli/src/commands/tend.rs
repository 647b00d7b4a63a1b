//! `tend`: the scheduled job. Takes back what a killed command left, gets the certificates that wait for their links,
//! and renews those that are due.

use brightharbor_core::certificate::Certificate;
use brightharbor_core::certificate::due::{due, to_ask_about};
use brightharbor_core::certificate::former::{forget, over_before};
use brightharbor_core::certificate::revocation::forget_over;
use brightharbor_core::change::ChangeSet;
use brightharbor_core::name::Hostname;
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::clear_away;
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::demands::{Seen, tend_demands};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::revocations::{Revoked, carry_through};
use crate::run::{Context, Decision, change};
use crate::secure::{SecureOutcome, Secured, Wanted, called_back, outdated, secure_all};
use crate::services::{Brought, bring};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};
use crate::site_change::site_change;

/// Former certificates that one run clears away: the next one goes on.
const CLEARED_AT_ONCE: usize = 1_000;

/// Finish what waits and renew what is due. Made to be run by a timer, every few minutes.
#[derive(Debug, Args)]
pub struct Tend {
    /// Say what would be tried, and do nothing.
    #[arg(long)]
    dry_run: bool,
    /// Go on without asking (the timer is never asked).
    #[arg(long)]
    yes: bool,
}

pub fn run(args: &Tend, context: &Context) -> Report {
    context.block_on(tend(args, context))?
}

/// The redirects that hold no longer, taken out of their sites.
fn end_redirects(harbor: &Harbor, options: &ChangeOptions, now: Timestamp) -> Result<Decision, Error> {
    let mut set = ChangeSet::new("tend: end redirects");
    let mut said = Vec::new();
    for site in harbor.store.sites_with_redirects(None)? {
        let mut after = site.clone();
        after.rules.redirects.retain(|redirect| redirect.until.is_none_or(|until| until > now));
        if after != site {
            let gone = site.rules.redirects.iter().filter(|redirect| !after.rules.redirects.contains(redirect));
            match site_change(harbor, &site, &after, options, &mut set) {
                Ok(()) => said.extend(gone.map(|redirect| format!("the redirect of {} has ended", redirect.source))),
                // A file that was changed by hand, say: it is shown by `site change`.
                Err(error) => {
                    let first = error.message.lines().next().unwrap_or_default();
                    said.push(format!("a redirect of {} should have ended and stays: {first}", site.main()));
                }
            }
        }
    }
    Ok(Decision { set, said })
}

/// Clears away what is over; what cannot be is told, and tried again. The files go before they are forgotten, so that a
/// run that is killed in between leaves none that nobody knows.
fn clear_certificates(harbor: &Harbor, now: Timestamp) -> Result<Decision, Error> {
    let (mut gone, mut stuck) = (Vec::new(), Vec::new());
    for former in harbor.store.former_certificates(over_before(now), CLEARED_AT_ONCE)? {
        match clear_away(&former, harbor.settings.web.server, &harbor.layout) {
            Ok(true) => gone.push(former),
            Ok(false) => {}
            Err(error) => stuck.push(format!("a former certificate of {} stays: {error}", former.site)),
        }
    }
    let (mut set, mut said) = forget(&gone);
    said.extend(stuck);
    let (over, words) = forget_over(&harbor.store.revocations()?, now);
    set.extend(over.changes);
    said.extend(words);
    Ok(Decision { set, said })
}

async fn tend(args: &Tend, context: &Context) -> Report {
    let mut report = Tended { dry_run: args.dry_run, ..Tended::default() };
    if !args.dry_run {
        // Takes back what a killed command has left, and ends the redirects whose day is over.
        let options = ChangeOptions { dry_run: false, yes: true };
        // No file that somebody has changed by hand is written over.
        let careful = ChangeOptions { yes: false, ..options };
        let ended = change(context, "tend", &options, async |harbor, now| end_redirects(harbor, &careful, now)).await?;
        report.ended = ended.said;
        let title = "tend: clear away certificates that are over";
        let cleared = change(context, title, &options, async |harbor, now| clear_certificates(harbor, now)).await?;
        report.ended.extend(cleared.said);
        let (ended, demanded) = tend_demands(context).await?;
        report.ended.extend(ended);
        report.demanded = demanded;
    }
    let harbor = context.open()?;
    let now = clock::now();
    let (waiting, certificates) = (harbor.store.all_waiting()?, harbor.store.all_certificates()?);
    let asked: Vec<Certificate> = to_ask_about(&certificates, &waiting, now).cloned().collect();
    let called_back = called_back(context, &harbor, &asked).await;
    let due = due(waiting, &certificates, outdated(&harbor, &certificates)?, called_back, now);
    let revocations = harbor.store.revocations()?;
    for waiting in due.later {
        let until = waiting.not_before.map(|not_before| human::when(not_before, now)).unwrap_or_default();
        report.later.push((waiting.site, format!("not before {until}: {}", waiting.reason)));
    }
    let turns = [(due.wanting, Wanted::Enough), (due.called_back, Wanted::New), (due.unproven, Wanted::Proof)];
    if args.dry_run {
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
        let all = secure_all(context, &sites, wanted).await?;
        for (site, tried) in sites.iter().zip(all) {
            report.tried.push(tried.unwrap_or_else(|error| Secured {
                site: site.main().clone(),
                outcome: SecureOutcome::Refused { reason: error.message, advice: error.advice, kept: None },
                left_out: vec![],
            }));
        }
    }
    let options = ChangeOptions { dry_run: false, yes: true };
    // Not while its successor cannot be asked for.
    let held_back = |site: &Hostname| report.later.iter().any(|(later, _)| later == site);
    for revocation in revocations.into_iter().filter(|one| !held_back(&one.site)) {
        let revoked = carry_through(context, &revocation, &options).await;
        report.revoked.push((revocation.site, revoked));
    }
    // What was renewed just now, or by hand since the last run, reaches the services.
    report.brought = bring(context, None, &options).await?;
    report.brought.retain(|brought| brought.new || brought.problem.is_some());
    Ok(Box::new(report))
}

#[derive(Default)]
struct Tended {
    dry_run: bool,
    /// The redirects, and the proofs for sellers, whose day is over.
    ended: Vec<String>,
    /// What sellers look at, with the site that it is for.
    demanded: Vec<(Hostname, Seen)>,
    tried: Vec<Secured>,
    later: Vec<(Hostname, String)>,
    would: Vec<Hostname>,
    /// Certificates that were still to be revoked, by site.
    revoked: Vec<(Hostname, Result<Revoked, Error>)>,
    /// Services that got another certificate, or could not.
    brought: Vec<Brought>,
}

impl Tended {
    fn unseen(&self) -> impl Iterator<Item = &(Hostname, Seen)> {
        self.demanded.iter().filter(|(_, seen)| seen.problem().is_some())
    }
}

impl Shown for Tended {
    fn human(&self, page: &mut Page) {
        if self.dry_run && !self.would.is_empty() {
            let names = self.would.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", ");
            page.hanging("", &format!("Nothing was done. Would be tried now: {names}."));
        }
        self.ended.iter().for_each(|ended| page.hanging("", &format!("{ended}.")));
        for secured in &self.tried {
            human::secured(page, secured);
        }
        for (site, revoked) in &self.revoked {
            match revoked {
                Ok(revoked) => human::revoked(page, revoked),
                Err(error) => page.hanging("", &format!("{site}: still to be revoked: {}", error.message)),
            }
        }
        self.brought.iter().for_each(|brought| human::brought(page, brought));
        for (site, seen) in self.unseen() {
            page.hanging("", &format!("{site}: the seller of its certificate would not see all: {}", seen.words()));
            page.hanging("  next: ", &format!("brightharbor certificate prove {site}"));
        }
        for (site, reason) in &self.later {
            page.hanging("", &format!("{site}: later, {reason}"));
            page.hanging("  at once: ", &format!("brightharbor certificate issue {site}"));
        }
        let idle = self.tried.is_empty() && self.later.is_empty() && self.would.is_empty();
        let unseen = self.unseen().next().is_some();
        if idle && self.revoked.is_empty() && self.ended.is_empty() && self.brought.is_empty() && !unseen {
            page.line("Nothing waits and nothing is due.");
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "tend",
            "carried_out": !self.dry_run,
            "tried": self.tried.iter().map(json::SecuredDocument::from).collect::<Vec<_>>(),
            "ended": self.ended,
            "services": self.brought,
            "revoked": self.revoked.iter().map(|(site, revoked)| match revoked {
                Ok(revoked) => json!(json::RevokedDocument::from(revoked)),
                Err(error) => json!({ "site": site, "carried_out": false, "reason": error.message }),
            }).collect::<Vec<_>>(),
            "demanded": self.demanded.iter().map(|(site, seen)| json!({ "site": site, "proof": seen })).collect::<Vec<_>>(),
            "would_try": self.would,
            "later": self.later.iter().map(|(site, reason)| json!({ "site": site, "reason": reason })).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let served =
            |secured: &Secured| matches!(secured.outcome, SecureOutcome::Served { .. }) && secured.left_out.is_empty();
        let unserved = self.brought.iter().any(|brought| brought.problem.is_some());
        if unserved || self.tried.iter().any(|secured| matches!(secured.outcome, SecureOutcome::NotShown { .. })) {
            Exit::Fault
        } else if self.tried.iter().all(served)
            && self.later.is_empty()
            && self.would.is_empty()
            && self.revoked.iter().all(|(_, revoked)| revoked.is_ok())
            && self.unseen().next().is_none()
        {
            Exit::Done
        } else {
            Exit::Waits
        }
    }
}
