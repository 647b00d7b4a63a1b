//! What a run of `tend` hands to the command of `[notify]`: certificates, services, the backup. The links of names are for
//! `survey --notify`; what is worth a notice is decided in core.

use brightharbor_core::notice::{Condition, Told, Topic};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::notify::{Notified, notify};
use jiff::Timestamp;

use super::report::Tended;
use super::staples::Restapled;
use crate::error::Error;

/// Sends what this run has found; `None` where there is no such command.
pub(super) async fn tell(harbor: &Harbor, report: &Tended, now: Timestamp) -> Result<Option<Notified>, Error> {
    let mut found: Vec<Condition> = report.tried.iter().filter_map(Condition::of_secured).collect();
    found.extend(report.running_out.iter().map(|one| Condition::of_ending(&one.certificate, now)));
    let behind = report.brought.iter().filter_map(|brought| Some((&brought.service, brought.problem.as_ref()?)));
    found.extend(behind.map(|(service, problem)| Condition::plain(Topic::ServiceBehind, service, problem)));
    found.extend(report.staples.iter().filter_map(Restapled::condition));
    found.extend(report.backup.as_ref().err().map(|why| Condition::plain(Topic::BackupFailed, "inventory", why)));
    let left_alone = |site: &str| {
        let later = report.later.iter().any(|later| later.site.as_str() == site);
        later || report.paused.iter().any(|paused| paused.site.as_str() == site)
    };
    Ok(notify(harbor, found, |told: &Told| told.is_looked_at_by_timer(left_alone), now).await?)
}
