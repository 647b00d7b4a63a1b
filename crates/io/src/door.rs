//! The way of every change: load and decide without the lock, show, ask for what has to be consented to, then take the
//! lock, check that nothing has changed meanwhile, and carry out.
//!
//! What changes under way is decided about again, under the lock and with the answers of the network that are known: then
//! nobody else is at it, and no server is asked. What was shown to a person is carried out only as it was shown. Loading
//! and deciding are the caller's; `carry_out` does the steps.

use std::time::{Duration, Instant};

use brightharbor_core::change::{Change, Plan, Purpose};
use brightharbor_core::site::{
    concerns_unknown_hosts, moved_accounts, touched_pools, with_log_folders, with_pools, with_unknown_hosts,
};
use jiff::Timestamp;

use crate::carry_out::{
    CarryError, Event, Lock, LockError, Recovered, carry_out, check_preconditions, has_leftovers, recover, take_lock,
};
use crate::clock;
use crate::harbor::Harbor;
use crate::install::read_if_there;
use crate::load::{LoadError, pools, unknown_hosts, without_log_folder};
use crate::overlay::{Answers, FilesRead, Overlay};
use crate::store::{Revision, StoreError};

/// How long a command waits for another one that works in the same harbor.
const LOCK_PATIENCE: Duration = Duration::from_secs(60);
/// So often a decision is made anew because the harbor has changed while it was shown, or while a server was asked.
const MOST_TRIES: usize = 8;

/// How a harbor is opened and what is told meanwhile.
pub struct Door<'a, E> {
    /// Opens the harbor as it is now, settings and all.
    pub open: &'a dyn Fn() -> Result<Harbor, E>,
    pub tell: &'a dyn Fn(Event),
}

/// Whether a plan is carried out, and who is asked.
pub trait Manner<E> {
    /// Nothing is carried out; the plan comes back as it is.
    fn is_dry_run(&self) -> bool;
    /// Whether a person has seen the plan when `consent` comes back: then another one is shown again.
    fn is_shown(&self) -> bool;
    /// Shows the plan where somebody is to see it, and refuses it if something was not consented to.
    fn consent(&self, plan: &Plan) -> Result<(), E>;
}

/// A plan with what became of it.
#[derive(Debug)]
pub struct Changed {
    pub plan: Plan,
    /// The logbook entry; `None`: nothing was carried out.
    pub entry: Option<i64>,
    /// How long carrying it out took: mostly the servers' tests, which read what a reload will read again.
    pub took: Duration,
}

/// Why nothing was carried out, beside what the caller refuses.
#[derive(Debug, thiserror::Error)]
pub enum DoorError {
    #[error(transparent)]
    Lock(#[from] LockError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Carry(#[from] CarryError),
    #[error(transparent)]
    Load(#[from] LoadError),
    #[error("the harbor kept changing while this command was deciding; nothing was done")]
    KeepsChanging,
}

/// What was decided, and what it rests on.
struct Decided<T> {
    harbor: Harbor,
    plan: Plan,
    beside: T,
    revision: Revision,
    files: FilesRead,
    now: Timestamp,
}

/// Runs one change on its way. `decide` loads and decides; it is called again if something changes meanwhile. What it
/// gives beside the plan comes back with what was carried out.
pub async fn change<T, E: From<DoorError>>(
    door: &Door<'_, E>,
    title: &str,
    manner: &dyn Manner<E>,
    decide: impl AsyncFn(&mut Overlay<'_>, Timestamp) -> Result<(Plan, T), E>,
) -> Result<(Changed, T), E> {
    let (answers, mut told) = (Answers::default(), Vec::new());
    for _ in 0..MOST_TRIES {
        let mut harbor = (door.open)()?;
        let is_left = harbor.store.has_unfinished().map_err(DoorError::from)?
            || has_leftovers(&harbor).map_err(DoorError::from)?;
        if !manner.is_dry_run() && is_left {
            // Somebody is at work, or was killed: what it leaves is waited for, or taken back, before anything is read.
            let lock = lock(door, &harbor, title).await?;
            take_back_killed(door, &harbor, &lock, &mut told).await?;
            drop(lock);
            harbor = (door.open)()?;
        }
        let first = decide_now(harbor, &answers, &decide).await?;
        check_preconditions(&first.plan.set).map_err(DoorError::from)?;
        if manner.is_dry_run() || first.plan.is_empty() {
            return Ok((Changed { plan: first.plan, entry: None, took: Duration::ZERO }, first.beside));
        }
        manner.consent(&first.plan)?;
        let lock = lock(door, &first.harbor, title).await?;
        let recovered = take_back_killed(door, &first.harbor, &lock, &mut told).await?;
        let is_as_read = !recovered
            && first.harbor.store.revision().map_err(DoorError::from)? == first.revision
            && first.files.are_unchanged();
        let decided = match is_as_read {
            true => Some(first),
            false => decide_again(door, manner, &answers, &first.plan, &decide, first.now).await?,
        };
        let Some(Decided { mut harbor, plan, beside, now, .. }) = decided else { continue };
        if plan.is_empty() {
            return Ok((Changed { plan, entry: None, took: Duration::ZERO }, beside));
        }
        let begun = Instant::now();
        let entry = carry_out(&mut harbor, &lock, &plan.set, now, door.tell).await.map_err(DoorError::from)?;
        return Ok((Changed { plan, entry: Some(entry), took: begun.elapsed() }, beside));
    }
    Err(DoorError::KeepsChanging.into())
}

async fn lock<E: From<DoorError>>(door: &Door<'_, E>, harbor: &Harbor, title: &str) -> Result<Lock, E> {
    let taken = take_lock(&harbor.layout.lock(), title, LOCK_PATIENCE, door.tell).await;
    Ok(taken.map_err(DoorError::from)?)
}

/// Takes back commands that were killed; whether there were any. What still cannot be taken back is told once.
async fn take_back_killed<E: From<DoorError>>(
    door: &Door<'_, E>,
    harbor: &Harbor,
    lock: &Lock,
    told: &mut Vec<Recovered>,
) -> Result<bool, E> {
    let recovered = recover(harbor, lock).await.map_err(DoorError::from)?;
    let any = !recovered.is_empty();
    for one in recovered {
        if !told.contains(&one) {
            (door.tell)(Event::Recovered(one.clone()));
            told.push(one);
        }
    }
    Ok(any)
}

async fn decide_now<T, E: From<DoorError>>(
    harbor: Harbor,
    answers: &Answers,
    decide: &impl AsyncFn(&mut Overlay<'_>, Timestamp) -> Result<(Plan, T), E>,
) -> Result<Decided<T>, E> {
    let (now, revision) = (clock::now(), harbor.store.revision().map_err(DoorError::from)?);
    let mut overlay = Overlay::new(&harbor, answers);
    let (plan, beside) = decide(&mut overlay, now).await?;
    let plan = completed(plan, &overlay).await?;
    let files = overlay.into_files_read();
    Ok(Decided { harbor, plan, beside, revision, files, now })
}

/// The plan with what goes along with every change of its kind, whoever has decided it.
async fn completed(plan: Plan, overlay: &Overlay<'_>) -> Result<Plan, DoorError> {
    let mut plan = without_kept_copies(plan)?;
    if concerns_unknown_hosts(&plan.set) {
        let loaded = unknown_hosts(overlay, &plan.set).await?;
        with_unknown_hosts(&mut plan.set, loaded, &overlay.settings, &overlay.layout);
    }
    if !touched_pools(&plan.set).is_empty() || !moved_accounts(&plan.set).is_empty() {
        let loaded = pools(overlay, &plan.set)?;
        with_pools(&mut plan, &loaded, &overlay.settings, &overlay.layout);
    }
    if let Some(folder) = &overlay.settings.sites.logs {
        let missing = without_log_folder(overlay, folder, &plan.set)?;
        with_log_folders(&mut plan, folder, &missing);
    }
    Ok(plan)
}

/// Copies are named by their content: one that is kept already is neither written again, nor taken back with the rest.
fn without_kept_copies(mut plan: Plan) -> Result<Plan, CarryError> {
    let mut fresh = Vec::with_capacity(plan.set.changes.len());
    for change in plan.set.changes {
        let is_kept = match &change {
            Change::WriteFile(write) if write.purpose == Purpose::Copy => {
                read_if_there(&write.path)?.is_some_and(|kept| kept[..] == write.content[..])
            }
            _ => false,
        };
        if !is_kept {
            fresh.push(change);
        }
    }
    plan.set.changes = fresh;
    Ok(plan)
}

/// Under the lock, with what is known of the network. `None`: a server has to be asked, or a person, so that everything
/// begins anew.
async fn decide_again<T, E: From<DoorError>>(
    door: &Door<'_, E>,
    manner: &dyn Manner<E>,
    answers: &Answers,
    shown: &Plan,
    decide: &impl AsyncFn(&mut Overlay<'_>, Timestamp) -> Result<(Plan, T), E>,
    now: Timestamp,
) -> Result<Option<Decided<T>>, E> {
    let harbor = (door.open)()?;
    let revision = harbor.store.revision().map_err(DoorError::from)?;
    let mut overlay = Overlay::without_asking(&harbor, answers);
    let decided = decide(&mut overlay, now).await;
    if overlay.has_missed() {
        return Ok(None);
    }
    let (plan, beside) = decided?;
    let plan = completed(plan, &overlay).await;
    if overlay.has_missed() {
        return Ok(None);
    }
    let (plan, files) = (plan?, overlay.into_files_read());
    if plan != *shown {
        if manner.is_shown() {
            return Ok(None);
        }
        manner.consent(&plan)?;
    }
    Ok(Some(Decided { harbor, plan, beside, revision, files, now }))
}

#[cfg(test)]
#[path = "door_tests.rs"]
mod tests;
