//! Fetches anew what CAs state of certificates that demand to be shown with it, well before the last statement is over,
//! and has the web server show it.

use std::time::Duration;

use brightharbor_core::certificate::{NewStaple, place_staples};
use brightharbor_core::name::Host;
use brightharbor_core::notice::{Condition, Topic};
use brightharbor_io::clock;
use brightharbor_io::load::{self, StapleSeen};
use brightharbor_io::probe::{RevocationLists, fetch_staple};
use futures_util::{StreamExt, stream};
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::human::{self, Page};

/// CAs that are asked at once.
const AT_ONCE: usize = 16;

/// What became of the statement for one site.
pub(super) struct Restapled {
    site: Host,
    /// Until when the one in place counts; `None`: there is none that does.
    until: Option<Timestamp>,
    urgent: bool,
    /// Why there is no new one.
    problem: Option<String>,
}

impl Restapled {
    /// Visitors are about to be refused, or are.
    pub(super) fn is_fault(&self) -> bool {
        self.urgent && self.problem.is_some()
    }

    /// What is worth a notice.
    pub(super) fn condition(&self) -> Option<Condition> {
        let problem = self.problem.as_deref().filter(|_| self.urgent)?;
        Some(Condition::plain(Topic::StapleMissing, self.site.as_str(), problem))
    }

    /// Nothing is to be told of it: there will be another try, in time.
    pub(super) fn is_quiet(&self) -> bool {
        self.problem.is_some() && !self.urgent
    }

    pub(super) fn show(&self, page: &mut Page, now: Timestamp) {
        let (site, until) = (&self.site, self.until.map(|until| human::when(until, now)));
        match (&self.problem, until) {
            (None, Some(until)) => page.hanging("", &format!("{site}: new statement of its CA, good until {until}")),
            (None, None) => {}
            (Some(_), _) if self.is_quiet() => {}
            (Some(problem), Some(until)) => {
                let what = "no new statement of its CA, without which browsers refuse its certificate";
                page.hanging("", &format!("{site}: {what}; the last one is good until {until}: {problem}"));
            }
            (Some(problem), None) => {
                let what = "no statement of its CA, without which browsers refuse its certificate";
                page.hanging("", &format!("{site}: {what}: {problem}"));
            }
        }
        if self.is_fault() {
            page.hanging(
                "  next: ",
                "see that this machine reaches the CA's OCSP responder; or get a certificate without",
            );
            page.hanging("  such as: ", &format!("brightharbor certificate issue {site} --stapled=no"));
        }
    }

    pub(super) fn document(&self) -> Value {
        json!({
            "site": self.site,
            "until": self.until.map(|until| until.to_string()),
            "urgent": self.urgent,
            "problem": self.problem,
        })
    }
}

/// Those that were due.
pub(super) async fn renew(context: &Context) -> Result<Vec<Restapled>, Error> {
    let harbor = context.open()?;
    let now = clock::now();
    let due: Vec<StapleSeen> = load::staples(&harbor, now)?.into_iter().filter(|seen| seen.standing.due).collect();
    if due.is_empty() {
        return Ok(vec![]);
    }
    context.progress.doing("asking CAs for statements about certificates");
    let asked = RevocationLists::of(&harbor);
    let fetched = due.iter().map(async |seen| match &seen.demanding {
        Ok(demanding) => {
            let kept_for = Duration::try_from(seen.standing.asked_every).unwrap_or_default();
            fetch_staple(demanding, &asked, kept_for).await
        }
        Err(why) => Err(why.clone()),
    });
    let fetched: Vec<Result<Vec<u8>, String>> = stream::iter(fetched).buffered(AT_ONCE).collect().await;
    drop(harbor);
    let (mut new, mut told, mut replaced) = (Vec::new(), Vec::new(), Vec::new());
    for (seen, fetched) in due.into_iter().zip(fetched) {
        let StapleSeen { site, files, demanding, in_place: before, standing } = seen;
        let mut problem = None;
        match (fetched, demanding) {
            // The CA has made no newer one yet.
            (Ok(answer), _) if before.as_ref() == Some(&answer) => match standing.urgent {
                true => problem = Some("its CA gives none that is newer".into()),
                false => continue,
            },
            (Ok(answer), Ok(demanding)) => {
                replaced.push((told.len(), demanding.standing(Some(&answer), now)));
                new.push(NewStaple { files, before, answer });
            }
            (Ok(_), Err(why)) | (Err(why), _) => problem = Some(why),
        }
        told.push(Restapled { site, until: standing.until, urgent: standing.urgent, problem });
    }
    if new.is_empty() {
        return Ok(told);
    }
    let yes = ChangeOptions { dry_run: false, yes: true };
    let title = "tend: what CAs state of certificates";
    let placed = change(context, title, &yes, async |overlay, _| {
        Ok((place_staples(&new, &overlay.store.all_certificates()?), ()))
    })
    .await;
    for (at, standing) in replaced {
        match &placed {
            Ok(_) => (told[at].until, told[at].urgent) = (standing.until, standing.urgent),
            // The rest of the run has nothing to do with it.
            Err(error) => told[at].problem = Some(error.message.clone()),
        }
    }
    Ok(told)
}
