//! `tend`: the scheduled job. Takes back what a killed command left, gets the certificates that wait for their links,
//! and renews those that are due.

use brightharbor_core::change::ChangeSet;
use brightharbor_core::name::Hostname;
use brightharbor_io::clock;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::Exit;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::secure::{SecureOutcome, Secured, secure};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

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

async fn tend(args: &Tend, context: &Context) -> Report {
    if !args.dry_run {
        // An empty change: takes the lock, and takes back what a killed command has left.
        let options = ChangeOptions { dry_run: false, yes: true };
        change(context, "tend", &options, async |_, _| Ok(Decision { set: ChangeSet::new("tend"), said: vec![] }))
            .await?;
    }
    let harbor = context.open()?;
    let now = clock::now();
    let mut report = Tended { dry_run: args.dry_run, tried: vec![], later: vec![], would: vec![] };
    let mut due: Vec<Hostname> = Vec::new();
    for waiting in harbor.store.all_waiting()? {
        match waiting.not_before.filter(|not_before| *not_before > now) {
            Some(not_before) => {
                let until = human::when(not_before, now);
                report.later.push((waiting.site, format!("not before {until}: {}", waiting.reason)));
            }
            None => due.push(waiting.site),
        }
    }
    for certificate in harbor.store.all_certificates()? {
        let held_back = report.later.iter().any(|(site, _)| *site == certificate.site);
        if certificate.is_due(now) && !held_back && !due.contains(&certificate.site) {
            due.push(certificate.site);
        }
    }
    if args.dry_run {
        report.would = due;
        return Ok(Box::new(report));
    }
    for name in due {
        let Some(site) = harbor.store.site_of(&name)? else { continue };
        context.progress.doing(&format!("tending {name}"));
        let tried = secure(context, &site).await;
        // One site's trouble must not keep the others waiting.
        report.tried.push(tried.unwrap_or_else(|error| Secured {
            site: name,
            outcome: SecureOutcome::Refused { reason: error.message, advice: error.advice },
            left_out: vec![],
        }));
    }
    Ok(Box::new(report))
}

struct Tended {
    dry_run: bool,
    tried: Vec<Secured>,
    later: Vec<(Hostname, String)>,
    would: Vec<Hostname>,
}

impl Shown for Tended {
    fn human(&self, page: &mut Page) {
        if self.dry_run && !self.would.is_empty() {
            let names = self.would.iter().map(Hostname::as_str).collect::<Vec<_>>().join(", ");
            page.hanging("", &format!("Nothing was done. Would be tried now: {names}."));
        }
        for secured in &self.tried {
            human::secured(page, secured);
        }
        for (site, reason) in &self.later {
            page.hanging("", &format!("{site}: later, {reason}"));
            page.hanging("  at once: ", &format!("brightharbor certificate issue {site}"));
        }
        if self.tried.is_empty() && self.later.is_empty() && self.would.is_empty() {
            page.line("Nothing waits and nothing is due.");
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "tend",
            "carried_out": !self.dry_run,
            "tried": self.tried.iter().map(json::SecuredDocument::from).collect::<Vec<_>>(),
            "would_try": self.would,
            "later": self.later.iter().map(|(site, reason)| json!({ "site": site, "reason": reason })).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let served =
            |secured: &Secured| matches!(secured.outcome, SecureOutcome::Served { .. }) && secured.left_out.is_empty();
        if self.tried.iter().any(|secured| matches!(secured.outcome, SecureOutcome::NotShown { .. })) {
            Exit::Fault
        } else if self.tried.iter().all(served) && self.later.is_empty() && self.would.is_empty() {
            Exit::Done
        } else {
            Exit::Waits
        }
    }
}
