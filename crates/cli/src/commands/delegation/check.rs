//! `delegation check`: from the root servers to the parent and to every nameserver, for one domain or for thousands.
//! Works without a harbor too, and on what was saved before without a network.

use std::collections::BTreeMap;
use std::io::{BufRead, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use brightharbor_core::delegation::{MOST_BYTES, SavedWalk};
use brightharbor_core::name::{DnsName, Hostname, registrable_domain};
use brightharbor_io::dns::Walker;
use clap::Args;
use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use serde_json::{Value, json};

use super::chosen::{Chosen, ChosenOptions};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::files;
use crate::judging::{Checked, Judge, exit_of};
use crate::network::{Network, NetworkOptions};
use crate::run::{Context, runtime_for_many};
use crate::show::human::{self, Page};
use crate::show::{Items, Shown, json};

/// Check who answers for domains: the parent's delegation, glue, keys, and whether each nameserver answers as it should.
#[derive(Debug, Args)]
pub struct Check {
    #[command(flatten)]
    chosen: ChosenOptions,
    #[command(flatten)]
    network: NetworkOptions,
    /// A nameserver that the domain should be delegated to. May be given several times; by default those of the
    /// harbor, if it keeps the zone.
    #[arg(long = "expect", value_name = "NAME")]
    expect: Vec<DnsName>,
    /// Save all that was seen to this file, one line of JSON a domain.
    #[arg(long, value_name = "FILE", conflicts_with = "from")]
    save: Option<PathBuf>,
    /// Ask nobody: judge what was saved in this file. Without domains, all that are in it.
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
}

/// Domains that are walked for at once.
const AT_ONCE: usize = 128;

pub fn run(args: &Check, context: &Context) -> Report {
    let network = args.network.network(context)?;
    let judge = Judge::new(&network, &args.expect)?;
    let mut chosen = match &args.from {
        Some(_) if args.chosen.is_empty() => Chosen::default(),
        _ => args.chosen.choose(network.harbor.as_ref())?,
    };
    match &args.from {
        // Nobody is asked: what was saved is of the domains as the list guesses them, or of the very name.
        Some(_) => chosen.place(registrable_domain)?,
        None => context.block_on(chosen.place_by_asking(&network, args.network.per_server))??,
    }
    let (checked, asked) = match &args.from {
        Some(file) => (judge_saved(file, &chosen, &judge)?, 0),
        None => runtime_for_many(chosen.domains.len())?.block_on(walk_all(
            args,
            &chosen.domains,
            &network,
            &judge,
            context,
        ))?,
    };
    Ok(Box::new(CheckReport { said: chosen.said, checked, asked }))
}

async fn walk_all(
    args: &Check,
    domains: &[Hostname],
    network: &Network,
    judge: &Judge<'_>,
    context: &Context,
) -> Result<(Vec<Checked>, usize), Error> {
    let walker = Arc::new(Walker::new(args.network.per_server).await);
    let mut save = args.save.as_deref().map(files::create).transpose()?;
    let saving = save.is_some();
    let mut checked = Vec::with_capacity(domains.len());
    let count = domains.len();
    let numbered: Vec<(usize, &Hostname)> = domains.iter().enumerate().collect();
    // The first alone: what lies above it is known to the others then.
    let (first, others) = numbered.split_at(count.min(1));
    for part in [first, others] {
        let mut waiting = part.iter();
        // In no order, so that one slow domain does not hold up the next ones.
        let mut walks = FuturesUnordered::new();
        loop {
            while walks.len() < AT_ONCE {
                let Some((number, domain)) = waiting.next().copied() else { break };
                let (walker, brief) = (Arc::clone(&walker), network.brief(domain)?);
                // What was seen is let go at once, unless it is to be saved.
                walks.push(tokio::spawn(async move {
                    let walked = walker.walk(brief).await;
                    (number, saving.then(|| SavedWalk::new(&walked.brief, &walked.seen)), walked.picture)
                }));
            }
            let Some(walked) = walks.next().await else { break };
            let (number, seen, picture) = walked.map_err(|error| {
                Error::refused("walk", format!("a walk broke off: {error}")).advice("tell its makers, with the domain")
            })?;
            context.progress.counted("domains checked", checked.len(), count);
            if let (Some((path, file)), Some(seen)) = (&mut save, seen) {
                writeln!(file, "{}", seen.line()).map_err(|error| files::unwritable(path, &error))?;
            }
            checked.push((number, judge.judge(picture)?));
        }
    }
    checked.sort_by_key(|(number, _)| *number);
    let checked = checked.into_iter().map(|(_, one)| one).collect();
    if let Some((path, mut file)) = save {
        file.flush().map_err(|error| files::unwritable(&path, &error))?;
    }
    Ok((checked, walker.asked()))
}

/// Judges what a file holds; of the chosen domains, or of all.
fn judge_saved(path: &Path, chosen: &Chosen, judge: &Judge<'_>) -> Result<Vec<Checked>, Error> {
    let unreadable = |line: usize, why: String| {
        Error::wrong_use(format!("{}:{line}: {why}", path.display()))
            .advice("give a file that `delegation check --save` has written")
    };
    let mut reader = files::open(path).map_err(|error| unreadable(0, error.to_string()))?;
    let mut checked = Vec::new();
    for number in 1.. {
        let mut line = String::new();
        let read = (&mut reader).take(MOST_BYTES as u64 + 1).read_line(&mut line);
        if read.map_err(|error| unreadable(number, error.to_string()))? == 0 {
            break;
        }
        let saved = SavedWalk::read(line.trim_end()).map_err(|error| unreadable(number, error.to_string()))?;
        let wanted = chosen.domains.iter().any(|domain| domain.dns_name() == saved.domain);
        if wanted || chosen.domains.is_empty() {
            checked.push(judge.judge(saved.picture())?);
        }
    }
    let missing =
        chosen.domains.iter().find(|domain| !checked.iter().any(|one| one.picture.domain == domain.dns_name()));
    match missing {
        Some(domain) => Err(Error::refused("not-saved", format!("{} holds nothing about {domain}", path.display()))
            .advice("leave the domain out to see all that it holds")),
        None => Ok(checked),
    }
}

struct CheckReport {
    said: Vec<String>,
    checked: Vec<Checked>,
    /// Questions that were sent; none for what was saved.
    asked: usize,
}

impl Shown for CheckReport {
    fn human(&self, page: &mut Page) {
        human::delegations(page, &self.said, &self.checked);
    }

    fn json(&self) -> Value {
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for one in &self.checked {
            *counts.entry(one.verdict.word()).or_default() += 1;
        }
        json!({
            "command": "delegation check",
            "verdicts": counts,
            "questions_asked": self.asked,
        })
    }

    fn json_items(&self) -> Option<(&'static str, Items<'_>)> {
        let value = |one| serde_json::to_value(json::DelegationDocument::from(one)).unwrap_or_default();
        Some(("domains", Box::new(self.checked.iter().map(value))))
    }

    fn exit(&self) -> Exit {
        exit_of(&self.checked)
    }
}
