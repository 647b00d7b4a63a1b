//! The steps that all commands share: what each gets, and the way of a change from the decision to what is shown of it.

use std::future::Future;
use std::io::{BufRead, IsTerminal, Write};
use std::path::PathBuf;
use std::time::Duration;

use brightharbor_core::change::{Consent, Plan};
use brightharbor_core::harbor::Settings;
use brightharbor_io::door::{self, Door, Manner};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::overlay::Overlay;
use brightharbor_io::secure::{WorkDoor, WorkError};
use brightharbor_io::server::await_fingerprint;
use jiff::Timestamp;
use tokio::runtime::Runtime;

use crate::error::Error;
use crate::events::Progress;
use crate::options::{ChangeOptions, Common};
use crate::settings;
use crate::show::human::{self, Page, harmless};
use crate::show::words;

/// What every command gets.
pub struct Context {
    pub root: PathBuf,
    pub json: bool,
    pub progress: Progress,
}

impl Context {
    pub fn new(common: &Common) -> Self {
        let root = std::path::absolute(&common.harbor).unwrap_or_else(|_| common.harbor.clone());
        Self { root, json: common.json, progress: Progress::new(common.quiet, common.verbose) }
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

    /// Runs work that goes on without asking, such as securing sites, with the settings as they are now.
    pub async fn work<T>(&self, work: impl AsyncFnOnce(&WorkDoor<'_>) -> Result<T, WorkError>) -> Result<T, Error> {
        let settings: Settings = settings::read(&self.root)?;
        let open = || Harbor::open(&self.root, settings.clone()).map_err(WorkError::from);
        let tell = |event| self.progress.event(event);
        Ok(work(&Door { open: &open, tell: &tell }).await?)
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

/// A plan with what became of it.
#[derive(Debug)]
pub struct Carried {
    pub plan: Plan,
    /// The logbook entry; `None`: nothing was carried out.
    pub entry: Option<i64>,
    /// How long carrying it out took.
    pub took: Duration,
    /// For a dry run: what would have to be consented to, and was not.
    pub missing: Vec<Consent>,
}

/// How a plan is put before the person who gave the command.
pub struct Asking<'a> {
    context: &'a Context,
    options: &'a ChangeOptions,
    /// Consents that an option of the command gives.
    given: &'a dyn Fn(&Consent) -> bool,
}

impl<'a> Asking<'a> {
    pub fn new(context: &'a Context, options: &'a ChangeOptions, given: &'a dyn Fn(&Consent) -> bool) -> Self {
        Self { context, options, given }
    }

    fn missing(&self, plan: &Plan) -> Vec<Consent> {
        let is_missing = |consent: &&Consent| !self.options.yes && !(self.given)(consent);
        plan.consents.iter().filter(is_missing).cloned().collect()
    }

    /// Whether somebody sits there who can say no.
    fn is_at_terminal(&self) -> bool {
        let terminal = std::io::stdin().is_terminal() && std::io::stderr().is_terminal();
        terminal && !self.options.yes && !self.context.json
    }
}

impl Manner<Error> for Asking<'_> {
    fn is_dry_run(&self) -> bool {
        self.options.dry_run
    }

    fn is_shown(&self) -> bool {
        self.is_at_terminal()
    }

    fn consent(&self, plan: &Plan) -> Result<(), Error> {
        let missing = self.missing(plan);
        match self.is_at_terminal() {
            true => ask(self.context, plan, &missing),
            false if missing.is_empty() => Ok(()),
            false => Err(Error::consent_needed(&missing)),
        }
    }
}

/// A person at a terminal sees what will be done and may say no; what takes something away has to be agreed to.
fn ask(context: &Context, plan: &Plan, missing: &[Consent]) -> Result<(), Error> {
    context.progress.pause();
    let mut err = std::io::stderr().lock();
    // What a dry run says first: what it is, and what comes along.
    let mut page = Page::new();
    human::remarks(&mut page, &plan.remarks, true);
    let _ = err.write_all(&page.into_bytes());
    for change in &plan.set.changes {
        let _ = writeln!(err, "  {}", harmless(&words::change_line(&change.into())));
    }
    for consent in missing {
        let told = words::consent(consent);
        let _ = writeln!(err, "{}.", harmless(&told.sentence()));
        for line in told.detail.lines() {
            let _ = writeln!(err, "{}", harmless(line));
        }
    }
    // What takes something away is not carried out by a hasty Enter.
    let enter_will_do = missing.is_empty() && !plan.takes_away();
    let question = match (missing.is_empty(), enter_will_do) {
        (true, true) => "Carry this out? [Y/n] ",
        (true, false) => "Carry this out? [y/N] ",
        (false, _) => "Do it all the same? [y/N] ",
    };
    let _ = write!(err, "{question}");
    let _ = err.flush();
    let mut answer = String::new();
    let _ = std::io::stdin().lock().read_line(&mut answer);
    match answer.trim().to_ascii_lowercase().as_str() {
        "" if enter_will_do => Ok(()),
        "y" | "yes" => Ok(()),
        _ => Err(Error::refused("declined", "nothing was changed, as you said")),
    }
}

/// Runs one change on its way. `decide` loads and decides; what it gives beside the plan comes back with it.
pub async fn change<T>(
    context: &Context,
    title: &str,
    options: &ChangeOptions,
    decide: impl AsyncFn(&mut Overlay<'_>, Timestamp) -> Result<(Plan, T), Error>,
) -> Result<(Carried, T), Error> {
    change_as(context, title, &Asking::new(context, options, &|_| false), decide).await
}

/// The same where an option of the command gives a consent.
pub async fn change_as<T>(
    context: &Context,
    title: &str,
    asking: &Asking<'_>,
    decide: impl AsyncFn(&mut Overlay<'_>, Timestamp) -> Result<(Plan, T), Error>,
) -> Result<(Carried, T), Error> {
    let open = || context.open();
    let tell = |event| context.progress.event(event);
    let door = Door { open: &open, tell: &tell };
    let (changed, beside) = door::change(&door, title, asking, decide).await?;
    let door::Changed { plan, entry, took } = changed;
    let missing = if asking.is_dry_run() { asking.missing(&plan) } else { vec![] };
    Ok((Carried { plan, entry, took, missing }, beside))
}

impl Carried {
    /// Whether it is settled: carried out, or there was nothing to do.
    pub fn is_done(&self) -> bool {
        self.entry.is_some() || self.plan.is_empty()
    }
}

/// A reload takes its time: asks, for a few seconds at most, until a site of the plan is served as it is now. One reload
/// serves all sites, so that one of them is enough.
pub async fn until_served(context: &Context, carried: &Carried) -> Result<(), Error> {
    if let (Some(site), Some(_)) = (carried.plan.changed_site(), carried.entry) {
        await_fingerprint(&context.open()?.settings, site, carried.took).await;
    }
    Ok(())
}
