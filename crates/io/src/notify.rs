//! Tells what has changed to the command of `[notify]`: one notice at a time on its standard input. What it could not be told
//! is told by the next run, and nothing else suffers from it.

use brightharbor_core::account::Account;
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::notice::{Condition, Notice, Told, Topic, Turn, notices};
use jiff::{SignedDuration, Timestamp};
use serde_json::json;

use crate::harbor::Harbor;
use crate::server::run_with_input;
use crate::store::StoreError;

/// Notices of one run: the next one goes on.
const MOST: usize = 200;

/// What became of it.
#[derive(Debug, Default)]
pub struct Notified {
    pub told: usize,
    /// What is left for the next run.
    pub left: usize,
    /// Why the command took no more.
    pub problem: Option<String>,
}

/// Tells what is new of what was found. `looked_at`: see [`notices`]. `None`: nobody has asked for it.
pub async fn notify(
    harbor: &Harbor,
    found: Vec<Condition>,
    looked_at: impl Fn(&Told) -> bool,
    now: Timestamp,
) -> Result<Option<Notified>, StoreError> {
    let settings = &harbor.settings.notify;
    if settings.command.is_empty() {
        return Ok(None);
    }
    let reminder = SignedDuration::from_hours(24 * i64::from(settings.reminder_days));
    let news = notices(found, &harbor.store.told()?, looked_at, reminder, now);
    let mut notified = Notified { left: news.len(), ..Notified::default() };
    for notice in news.into_iter().take(MOST) {
        let text = format!("{}\n", document(&notice, owner(harbor, &notice)?, now));
        if let Err(error) = run_with_input(&settings.command, text.into_bytes()).await {
            notified.problem = Some(error.to_string());
            break;
        }
        match notice.turn {
            Turn::Begins | Turn::GoesOn => harbor.store.note_told(&notice.condition, notice.since, now)?,
            Turn::Ends => harbor.store.forget_told(&notice.condition)?,
            Turn::Happened => {}
        }
        notified.told += 1;
        notified.left -= 1;
    }
    Ok(Some(notified))
}

/// Whose it is, where it is about a name that is attached or about a zone.
fn owner(harbor: &Harbor, notice: &Notice) -> Result<Option<Account>, StoreError> {
    if notice.condition.topic == Topic::ZoneBehind {
        let Ok(name) = Hostname::parse(&notice.condition.subject) else { return Ok(None) };
        let Some(zone) = harbor.store.zone(&name)? else { return Ok(None) };
        return harbor.store.account(&zone.account);
    }
    let Ok(host) = Host::parse(&notice.condition.subject) else { return Ok(None) };
    let Some(site) = harbor.store.site_of(&host)? else { return Ok(None) };
    harbor.store.account(&site.account)
}

/// The form is a contract, like that of every `--json`.
fn document(notice: &Notice, owner: Option<Account>, now: Timestamp) -> serde_json::Value {
    let Notice { turn, condition, since } = notice;
    let seconds = |time: Timestamp| time.strftime("%Y-%m-%dT%H:%M:%SZ").to_string();
    json!({
        "format": 1,
        "at": seconds(now),
        "topic": condition.topic,
        "turn": turn,
        "since": seconds(*since),
        "subject": condition.subject,
        "code": condition.code,
        "reason": (!condition.reason.is_empty()).then_some(&condition.reason),
        "account": owner.as_ref().map(|account| &account.name),
        "email": owner.as_ref().map(|account| &account.email),
    })
}
