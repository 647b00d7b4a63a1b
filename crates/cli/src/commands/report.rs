//! `report`: the harbor as pages of HTML: one of everything, and one an account for its customer. Each stands alone.

use std::path::{Path, PathBuf};

use brightharbor_core::name::Host;
use brightharbor_core::survey::{LinkState, StoppedSince, Survey, stopped_since};
use brightharbor_core::zone::Serials;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{read_at_most, read_if_there, write_atomically};
use brightharbor_io::{clock, load};
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report as Outcome;
use crate::error::{Error, Exit};
use crate::files;
use crate::run::Context;
use crate::show::html::{Facts, MARK, Owner, Pages};
use crate::show::human::Page;
use crate::show::{Shown, counted};
use crate::surveying::walk;
use crate::zone_states::{ZoneState, serials_of};

/// Write the harbor as pages of HTML into a folder: what does not work, hostnames, certificates, zones, redirects, accounts.
///
/// `index.html` is for the administrator, `accounts/NAME.html` for a customer. Each stands alone, and can be mailed or put on
/// a server. Made again, it knows since when a hostname does not work.
#[derive(Debug, Args)]
pub struct Report {
    /// The folder. Pages of an earlier report are written over; nothing else is.
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
    /// Ask nobody: without the links of the hostnames, and without the servers' serials.
    #[arg(long)]
    unasked: bool,
}

/// Since when hostnames do not work, for the next report.
const MEMORY: &str = "since.json";
/// Of a folder that anybody may write to no more is read, in bytes.
const MOST_MEMORY: usize = 64 << 20;

pub fn run(args: &Report, context: &Context) -> Outcome {
    let harbor = context.open()?;
    let accounts = args.to.join("accounts");
    refuse_others(&args.to, &accounts)?;
    let facts = facts(args, &harbor, context)?;
    files::make_folder(&accounts)?;
    let pages_of = Pages::of(&facts);
    let mut pages = vec![(args.to.join("index.html"), pages_of.page(None))];
    for owner in &facts.owners {
        pages.push((accounts.join(format!("{}.html", owner.account.name)), pages_of.page(Some(owner))));
    }
    let gone = stale(&accounts, &pages)?;
    for (path, text) in &pages {
        write_atomically(path, text.as_bytes(), 0o644)?;
    }
    gone.iter().try_for_each(|path| files::remove_page(path))?;
    remember(&args.to, &facts)?;
    Ok(Box::new(Written::of(&args.to, pages.len(), &facts)))
}

fn facts(args: &Report, harbor: &Harbor, context: &Context) -> Result<Facts, Error> {
    let now = clock::now();
    let store = &harbor.store;
    let sites = store.sites(None)?;
    let hosts: Vec<Host> = sites.iter().flat_map(|site| site.hostnames.clone()).collect();
    let mut surveys = Vec::new();
    if !args.unasked {
        walk(context, harbor, &hosts, None, |looked| {
            surveys.extend(looked.surveys);
            Ok(())
        })?;
    }
    let zones = store.zones()?;
    let serials = match args.unasked {
        true => Serials::new(),
        false => {
            context.progress.doing("asking the servers for their serials");
            context.block_on(serials_of(harbor, &zones))?
        }
    };
    let loaded = load::loaded_files(harbor)?;
    let zones: Result<Vec<ZoneState>, Error> =
        zones.into_iter().map(|zone| ZoneState::read(harbor, zone, &serials, &loaded)).collect();
    let owners = store.accounts()?.into_iter().map(|account| {
        let plan = account.plan.as_ref().map(|plan| store.plan(plan)).transpose()?.flatten();
        let usage = store.usage(&account.name)?;
        Ok(Owner { account, plan, usage })
    });
    Ok(Facts {
        made_at: now,
        walked: !args.unasked,
        since: stopped_since(&surveys, &remembered(&args.to), &store.told()?, now),
        surveys,
        sites,
        certificates: store.all_certificates()?,
        zones: zones?,
        owners: owners.collect::<Result<_, Error>>()?,
    })
}

/// What the report before knew. Whatever somebody has made of that file, a report is made.
fn remembered(to: &Path) -> StoppedSince {
    let kept = read_at_most(&to.join(MEMORY), MOST_MEMORY).ok();
    kept.and_then(|bytes| serde_json::from_slice(&bytes).ok()).unwrap_or_default()
}

/// Kept for the next report; not where nothing was looked at, which would forget all.
fn remember(to: &Path, facts: &Facts) -> Result<(), Error> {
    if !facts.walked {
        return Ok(());
    }
    let text = json!(facts.since).to_string() + "\n";
    Ok(write_atomically(&to.join(MEMORY), text.as_bytes(), 0o644)?)
}

/// Pages of somebody else are never written over.
fn refuse_others(to: &Path, accounts: &Path) -> Result<(), Error> {
    for path in files::pages_in(accounts).into_iter().chain([to.join("index.html")]) {
        if read_if_there(&path)?.is_some_and(|content| !is_ours(&content)) {
            let message = format!("{} is there, and no report has made it", path.display());
            return Err(Error::refused("in-the-way", message).advice("give another folder, or move that file away"));
        }
    }
    Ok(())
}

/// Pages of accounts that are gone: they would be taken for what is.
fn stale(accounts: &Path, pages: &[(PathBuf, String)]) -> Result<Vec<PathBuf>, Error> {
    let is_made = |path: &PathBuf| pages.iter().any(|(made, _)| made == path);
    Ok(files::pages_in(accounts).into_iter().filter(|path| !is_made(path)).collect())
}

fn is_ours(content: &[u8]) -> bool {
    String::from_utf8_lossy(&content[..content.len().min(1024)]).contains(MARK)
}

struct Written {
    to: PathBuf,
    pages: usize,
    hostnames: usize,
    broken: usize,
    waiting: usize,
    walked: bool,
}

impl Written {
    fn of(to: &Path, pages: usize, facts: &Facts) -> Self {
        let open = facts.surveys.iter().filter_map(Survey::first_open);
        let (waiting, broken): (Vec<_>, Vec<_>) = open.partition(|link| matches!(link.state, LinkState::Waiting(_)));
        Self {
            to: to.to_path_buf(),
            pages,
            hostnames: facts.sites.iter().map(|site| site.hostnames.len()).sum(),
            broken: broken.len(),
            waiting: waiting.len(),
            walked: facts.walked,
        }
    }
}

impl Shown for Written {
    fn human(&self, page: &mut Page) {
        let index = self.to.join("index.html");
        page.line(&format!("written: {} and {} for customers", index.display(), counted(self.pages - 1, "page")));
        if self.walked {
            let names = counted(self.hostnames, "hostname");
            page.line(&format!("{names}: {} broken, {} waiting", self.broken, self.waiting));
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "report",
            "to": self.to.display().to_string(),
            "pages": self.pages,
            "hostnames": self.hostnames,
            "broken": self.walked.then_some(self.broken),
            "waiting": self.walked.then_some(self.waiting),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
