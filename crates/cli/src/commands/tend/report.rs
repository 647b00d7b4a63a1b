//! What a run of `tend` tells: what ended, what was got, what waits and until when.

use std::path::PathBuf;

use brightharbor_core::certificate::securing::{SecureOutcome, Secured};
use brightharbor_core::certificate::{NamePause, Waiting};
use brightharbor_core::change::Remark;
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::redirect::StuckRedirect;
use brightharbor_io::clock;
use brightharbor_io::notify::Notified;
use brightharbor_io::secure::{Demanded, Revoked};
use serde_json::{Value, json};

use super::running_out::RunningOut;
use super::signing::{Watched, show_signing};
use super::staples::Restapled;
use crate::error::{Error, Exit};
use crate::show::human::{self, Page};
use crate::show::json::BroughtDocument;
use crate::show::metrics::Metrics;
use crate::show::{Shown, counted, json, words};

pub(super) struct Tended {
    pub(super) dry_run: bool,
    /// The redirects, and what sellers asked for, whose day is over.
    pub(super) ended: Vec<Remark>,
    /// Sites whose redirects should have ended.
    pub(super) stuck: Vec<StuckRedirect>,
    /// What sellers look at, with the site that it is for.
    pub(super) demanded: Vec<(Host, Demanded)>,
    pub(super) tried: Vec<Secured>,
    /// What is not tried before a time.
    pub(super) later: Vec<Waiting>,
    /// The same of single names.
    pub(super) paused: Vec<NamePause>,
    pub(super) would: Vec<Host>,
    /// Sites whose files are not as they would be written now.
    pub(super) out_of_step: Vec<Host>,
    /// Zones whose files somebody has edited since they were loaded.
    pub(super) edited_zones: Vec<Hostname>,
    /// Zones that the server signs, where the parent has news or lacks something.
    pub(super) signing: Vec<Watched>,
    /// Statements of CAs that certificates are shown with, where new ones were due.
    pub(super) staples: Vec<Restapled>,
    /// Certificates that somebody has to look after.
    pub(super) running_out: Vec<RunningOut>,
    /// Certificates that were still to be revoked, by site.
    pub(super) revoked: Vec<(Host, Result<Revoked, Error>)>,
    /// Services that got another certificate, or could not.
    pub(super) brought: Vec<BroughtDocument>,
    /// The copy of the inventory that the first run of a day makes; or why there is none.
    pub(super) backup: Result<Option<PathBuf>, String>,
    /// What became of telling whoever wants to be told. It changes no exit code.
    pub(super) notified: Option<Notified>,
    /// Why no metrics were written.
    pub(super) metrics_failed: Option<String>,
}

impl Tended {
    pub(super) fn new(dry_run: bool) -> Self {
        Self {
            dry_run,
            ended: vec![],
            stuck: vec![],
            demanded: vec![],
            tried: vec![],
            later: vec![],
            paused: vec![],
            would: vec![],
            out_of_step: vec![],
            edited_zones: vec![],
            signing: vec![],
            staples: vec![],
            running_out: vec![],
            revoked: vec![],
            brought: vec![],
            backup: Ok(None),
            notified: None,
            metrics_failed: None,
        }
    }

    /// For a collector: that a timer runs at all shows in the time alone.
    pub(super) fn metrics(&self) -> String {
        let mut metrics = Metrics::default();
        let count = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
        let failed = self.tried.iter().filter(|secured| matches!(secured.outcome, SecureOutcome::Refused { .. }));
        metrics.single("tend_ended_seconds", "When it ran last.", clock::now().as_second());
        metrics.single("tend_exit", "The exit code of the last run.", (self.exit() as u8).into());
        metrics.single(
            "certificates_refused",
            "Sites whose certificate this run could not get.",
            count(failed.count()),
        );
        metrics.single(
            "certificates_later",
            "Sites and names that wait for a later run.",
            count(self.later.len() + self.paused.len()),
        );
        metrics.single(
            "certificates_running_out",
            "Certificates that somebody has to look after.",
            count(self.running_out.len()),
        );
        let unstapled = self.staples.iter().filter(|one| one.is_fault());
        metrics.single(
            "staples_missing",
            "Certificates that demand their CA's statement and are about to be without one.",
            count(unstapled.count()),
        );
        let behind = self.brought.iter().filter(|brought| brought.problem.is_some());
        metrics.single("services_behind", "Services without the certificate that they need.", count(behind.count()));
        metrics.single(
            "backup_failed",
            "Whether there is no copy of the inventory today.",
            self.backup.is_err().into(),
        );
        metrics.into_text()
    }

    fn unseen(&self) -> impl Iterator<Item = &(Host, Demanded)> {
        self.demanded.iter().filter(|(_, seen)| seen.problem.is_some())
    }
}

impl Shown for Tended {
    fn human(&self, page: &mut Page) {
        if self.dry_run && !self.would.is_empty() {
            let names = self.would.iter().map(Host::as_str).collect::<Vec<_>>().join(", ");
            page.hanging("", &format!("Dry run: nothing was changed. Would try now: {names}."));
        }
        human::remarks(page, &self.ended, false);
        for StuckRedirect { site, consent } in &self.stuck {
            let why = words::consent(consent).sentence();
            page.hanging("", &format!("{site}: a redirect should have ended: {why}"));
            page.hanging("  next: ", &format!("brightharbor site change {site}"));
        }
        for secured in &self.tried {
            human::secured(page, secured);
        }
        for (site, revoked) in &self.revoked {
            match revoked {
                Ok(revoked) => {
                    revoked.successor.iter().chain(&revoked.sites).for_each(|one| human::secured(page, one));
                    revoked.services.iter().for_each(|one| human::brought(page, &BroughtDocument::from(one)));
                    human::revoked(page, &revoked.revocation, revoked.is_still_shown());
                }
                Err(error) => page.hanging("", &format!("{site}: not revoked yet: {}", error.message)),
            }
        }
        self.brought.iter().for_each(|brought| human::brought(page, brought));
        for (site, seen) in self.unseen() {
            let problem = seen.problem.as_deref().unwrap_or_default();
            page.hanging(
                "",
                &format!("{site}: a check of its certificate seller would fail: {}: {problem}", seen.subject),
            );
            page.hanging("  next: ", &format!("brightharbor certificate prove {site}"));
        }
        let now = clock::now();
        for Waiting { site, not_before, reason, .. } in &self.later {
            let until = not_before.map(|not_before| human::when(not_before, now)).unwrap_or_default();
            page.hanging("", &format!("{site}: later, not before {until}: {reason}"));
            page.hanging("  at once: ", &format!("brightharbor certificate issue {site}"));
        }
        for NamePause { name, site, not_before, reason, .. } in &self.paused {
            let until = human::when(*not_before, now);
            page.hanging("", &format!("{name}: later, not before {until}: {reason}"));
            page.hanging("  at once: ", &format!("brightharbor certificate issue {site}"));
        }
        if let Some(first) = self.out_of_step.first() {
            let count = counted(self.out_of_step.len(), "site file");
            page.hanging("note: ", &format!("{count} not as it would be written now, such as that of {first}"));
            page.hanging("  next: ", "brightharbor site realign");
        }
        if let Some(first) = self.edited_zones.first() {
            let count = counted(self.edited_zones.len(), "zone file");
            page.hanging(
                "note: ",
                &format!("{count} edited by hand since last loaded from here, such as that of {first}"),
            );
            page.hanging("  next: ", "brightharbor zone load");
        }
        for one in &self.running_out {
            page.hanging("", &one.line(now));
            page.hanging("  next: ", &one.next());
        }
        self.staples.iter().for_each(|one| one.show(page, now));
        self.signing.iter().for_each(|watched| show_signing(page, watched));
        if let Err(reason) = &self.backup {
            page.hanging("", &format!("no backup of the inventory today: {reason}"));
        }
        let pending = self.later.is_empty() && self.paused.is_empty();
        let idle = self.tried.is_empty() && pending && self.would.is_empty();
        let unseen = self.unseen().next().is_some();
        if idle
            && self.revoked.is_empty()
            && self.ended.is_empty()
            && self.stuck.is_empty()
            && self.brought.is_empty()
            && self.signing.is_empty()
            && self.staples.iter().all(Restapled::is_quiet)
            && self.running_out.is_empty()
            && !unseen
        {
            page.line("Nothing is pending and nothing is due.");
        }
        self.notified.iter().for_each(|notified| human::notified(page, notified));
        if let Some(reason) = &self.metrics_failed {
            page.hanging("", &format!("no metrics: {reason}"));
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "tend",
            "carried_out": !self.dry_run,
            "tried": self.tried.iter().map(json::SecuredDocument::from).collect::<Vec<_>>(),
            "ended": self.ended.iter().map(|one| words::remark(one).document(true)).collect::<Vec<_>>(),
            "stuck": self.stuck.iter().map(|stuck| json!({
                "site": stuck.site,
                "consent": words::consent(&stuck.consent).document(false),
            })).collect::<Vec<_>>(),
            "services": self.brought,
            "revoked": self.revoked.iter().map(|(site, revoked)| match revoked {
                Ok(revoked) => json!(json::RevokedDocument::from(revoked)),
                Err(error) => json!({ "site": site, "carried_out": false, "code": error.code, "reason": error.message }),
            }).collect::<Vec<_>>(),
            "demanded": self.demanded.iter().map(|(site, seen)| json!({ "site": site, "proof": json::demanded_document(seen) })).collect::<Vec<_>>(),
            "would_try": self.would,
            "out_of_step": self.out_of_step,
            "edited_zones": self.edited_zones,
            "running_out": self.running_out.iter().map(RunningOut::document).collect::<Vec<_>>(),
            "staples": self.staples.iter().map(Restapled::document).collect::<Vec<_>>(),
            "signing": self.signing.iter().map(Watched::document).collect::<Vec<_>>(),
            "backup": self.backup.as_ref().ok().and_then(Option::as_ref).map(|copy| copy.display().to_string()),
            "backup_failed": self.backup.as_ref().err(),
            "metrics_failed": self.metrics_failed,
            "notified": self.notified.as_ref().map(json::NotifiedDocument::from),
            "later": self.later.iter().map(|later| json!({
                "site": later.site,
                "not_before": later.not_before.map(|at| at.to_string()),
                "reason": later.reason,
            })).collect::<Vec<_>>(),
            "paused": self.paused.iter().map(|paused| json!({
                "name": paused.name,
                "site": paused.site,
                "since": paused.since.to_string(),
                "not_before": paused.not_before.to_string(),
                "reason": paused.reason,
            })).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let served = |secured: &Secured| secured.is_served() && secured.left_out.is_empty();
        let unserved = self.brought.iter().any(|brought| brought.problem.is_some());
        let over = self.running_out.iter().any(|one| one.is_over);
        let unwritten = self.backup.is_err() || self.metrics_failed.is_some();
        let unstapled = self.staples.iter().any(Restapled::is_fault);
        if over || unserved || unstapled || unwritten || !self.tried.iter().all(Secured::is_shown) {
            Exit::Fault
        } else if self.tried.iter().all(served)
            && self.later.is_empty()
            && self.paused.is_empty()
            && self.stuck.is_empty()
            && self.would.is_empty()
            && self.revoked.iter().all(|(_, revoked)| revoked.is_ok())
            && self.unseen().next().is_none()
            && self.running_out.is_empty()
            && self.signing.iter().all(|watched| watched.missing.is_empty() && watched.problem.is_none())
        {
            Exit::Done
        } else {
            Exit::Waits
        }
    }
}
