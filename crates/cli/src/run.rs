//! The steps that all changing commands share, once: load, decide, show, carry out, record.
//!
//! Nothing below "show" knows of a dry run: what is shown there is the very change set that is carried out.

use std::future::Future;
use std::io::{BufRead, IsTerminal, Write};
use std::path::PathBuf;
use std::time::{Duration, Instant};

use brightharbor_core::change::ChangeSet;
use brightharbor_io::carry_out::{Recovered, carry_out, recover, take_lock};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use jiff::Timestamp;
use tokio::runtime::Runtime;

use crate::error::Error;
use crate::events::Progress;
use crate::options::{ChangeOptions, Common};
use crate::settings;

/// How long a command waits for another one that works in the same harbor.
const LOCK_PATIENCE: Duration = Duration::from_secs(60);

/// What every command gets.
pub struct Context {
    pub root: PathBuf,
    pub json: bool,
    pub progress: Progress,
}

impl Context {
    pub fn new(common: &Common) -> Self {
        let root = std::path::absolute(&common.harbor).unwrap_or_else(|_| common.harbor.clone());
        Self { root, json: common.json, progress: Progress::new() }
    }

    /// Opens the harbor for reading; changes go through [`change`].
    pub fn open(&self) -> Result<Harbor, Error> {
        let settings = settings::read(&self.root)?;
        Ok(Harbor::open(&self.root, settings)?)
    }

    /// Runs what needs the network or timers.
    pub fn block_on<T>(&self, work: impl Future<Output = T>) -> Result<T, Error> {
        Ok(runtime()?.block_on(work))
    }
}

pub fn runtime() -> Result<Runtime, Error> {
    tokio::runtime::Builder::new_current_thread()
        .enable_all()
        .build()
        .map_err(|error| Error::refused("runtime", format!("the network cannot be used: {error}")))
}

/// For work on many things at once: more threads where there is more than one core and one thing.
pub fn runtime_for_many(things: usize) -> Result<Runtime, Error> {
    let cores = std::thread::available_parallelism().map_or(1, usize::from).min(4);
    if things < 2 || cores < 2 {
        return runtime();
    }
    tokio::runtime::Builder::new_multi_thread()
        .worker_threads(cores)
        .enable_all()
        .build()
        .map_err(|error| Error::refused("runtime", format!("the network cannot be used: {error}")))
}

/// What a command has decided.
pub struct Decision {
    pub set: ChangeSet,
    /// What was made of the request, in sentences.
    pub said: Vec<String>,
}

/// A decision with what became of it.
pub struct Changed {
    pub set: ChangeSet,
    pub said: Vec<String>,
    /// The logbook entry; `None` for a dry run.
    pub entry: Option<i64>,
    /// How long carrying it out took: mostly the servers' tests, which read what a reload will read again.
    pub took: Duration,
}

/// Runs one change from "load" to "record". `decide` sees the harbor as it is while the lock is held.
pub async fn change(
    context: &Context,
    title: &str,
    options: &ChangeOptions,
    decide: impl AsyncFnOnce(&Harbor, Timestamp) -> Result<Decision, Error>,
) -> Result<Changed, Error> {
    let mut harbor = context.open()?;
    if options.dry_run {
        let Decision { set, said } = decide(&harbor, clock::now()).await?;
        return Ok(Changed { set, said, entry: None, took: Duration::ZERO });
    }
    let tell = |event| context.progress.event(event);
    let lock = take_lock(&harbor.layout.lock(), title, LOCK_PATIENCE, &tell)?;
    for recovered in recover(&harbor, &lock).await? {
        tell_recovered(context, &recovered);
    }
    let now = clock::now();
    let Decision { set, said } = decide(&harbor, now).await?;
    if set.is_empty() {
        return Ok(Changed { set, said, entry: None, took: Duration::ZERO });
    }
    ask(context, options, &set)?;
    let begun = Instant::now();
    let entry = carry_out(&mut harbor, &lock, &set, now, &tell).await?;
    Ok(Changed { set, said, entry: Some(entry), took: begun.elapsed() })
}

fn tell_recovered(context: &Context, recovered: &Recovered) {
    let title = &recovered.title;
    context.progress.note(&format!("note: the command `{title}` was killed midway; it has been taken back"));
    for left in &recovered.left {
        context.progress.note(&format!("note: this could not be taken back: {left}"));
    }
}

/// A person at a terminal sees what will be done and may say no; a script is not asked.
fn ask(context: &Context, options: &ChangeOptions, set: &ChangeSet) -> Result<(), Error> {
    let at_terminal = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
    if options.yes || context.json || !at_terminal {
        return Ok(());
    }
    context.progress.pause();
    for change in &set.changes {
        let _ = writeln!(std::io::stderr(), "  {}", change.line());
    }
    let _ = write!(std::io::stderr(), "Carry this out? [Y/n] ");
    let mut answer = String::new();
    let _ = std::io::stdin().lock().read_line(&mut answer);
    match answer.trim().to_ascii_lowercase().as_str() {
        "" | "y" | "yes" => Ok(()),
        _ => Err(Error::refused("declined", "nothing was changed, as you said")),
    }
}
