//! `survey`: the six links of hostnames, as a visitor meets them. Changes nothing.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::net::IpAddr;
use std::path::PathBuf;

use brightharbor_core::harbor::ServerAddress;
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::notice::Condition;
use brightharbor_core::survey::{Spread, Survey as Links, reasons};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::write_atomically;
use brightharbor_io::load::losses;
use brightharbor_io::notify::{Notified, notify};
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_account, host};
use crate::error::{Error, Exit};
use crate::files;
use crate::options::typed_address;
use crate::run::Context;
use crate::show::human::{self, Page};
use crate::show::metrics::Metrics;
use crate::show::{Shown, exit_of, json};
use crate::surveying::walk;

/// Walk the six links of hostnames as a visitor would; say where each stops, why, and whose turn it is.
///
/// With `--all`, `--account` or a list, a summary comes first and then a line for each that stops somewhere.
#[derive(Debug, Args)]
pub struct Survey {
    /// Hostnames, attached here or not.
    #[arg(required_unless_present_any = ["all", "account", "from_file"])]
    hostnames: Vec<String>,
    /// All hostnames of the harbor.
    #[arg(long, conflicts_with_all = ["hostnames", "account", "from_file"])]
    all: bool,
    /// All hostnames of this account.
    #[arg(long, value_name = "ACCOUNT", conflicts_with_all = ["hostnames", "from_file"])]
    account: Option<String>,
    /// The hostnames in this file, one a line; `#` begins a comment. `-` is standard input.
    #[arg(long, value_name = "FILE", conflicts_with = "hostnames")]
    from_file: Option<PathBuf>,
    /// Look for the web server at this address, before the names lead there.
    #[arg(long, value_name = "ADDRESS", value_parser = typed_address)]
    at: Option<IpAddr>,
    /// Ask these resolvers, and show how far a change has spread among them.
    #[arg(long, value_name = "ADDRESS[:PORT],...", value_delimiter = ',')]
    resolvers: Vec<ServerAddress>,
    /// Tell the command of `[notify]` which names have stopped to work since the last time, and which work again.
    #[arg(long, conflicts_with_all = ["at", "resolvers"])]
    notify: bool,
    /// Write how many links are in which state, and where names stop, to this file, in the text format of Prometheus.
    #[arg(long, value_name = "FILE")]
    metrics: Option<PathBuf>,
}

pub fn run(args: &Survey, context: &Context) -> Report {
    let mut harbor = context.open()?;
    if args.notify && harbor.settings.notify.command.is_empty() {
        return Err(Error::nobody_to_tell());
    }
    let names = chosen(args, &harbor)?;
    if !args.resolvers.is_empty() {
        harbor.settings.internet.resolvers = args.resolvers.clone();
    }
    let (mut surveys, mut spreads) = (Vec::new(), Vec::new());
    walk(context, &harbor, &names, args.at, |looked| {
        if !args.resolvers.is_empty() {
            spreads.extend(looked.spreads(&harbor)?);
        }
        surveys.extend(looked.surveys);
        Ok(())
    })?;
    let listed = args.hostnames.is_empty();
    let lost = if listed { BTreeMap::new() } else { lost_with_the_move(&surveys, &harbor, context)? };
    if let Some(path) = &args.metrics {
        write_atomically(path, metrics(&surveys).as_bytes(), 0o644)?;
    }
    let notified = match args.notify {
        true => {
            let found = surveys.iter().filter_map(Condition::of_survey).collect();
            context.block_on(notify(&harbor, found, |told| told.is_looked_at_by(&surveys), clock::now()))??
        }
        false => None,
    };
    Ok(Box::new(Surveyed { surveys, spreads, lost, listed, notified }))
}

/// What would be lost if the domains moved to where they are expected, by domain: whoever hands the nameservers on is to know
/// it before.
fn lost_with_the_move(
    surveys: &[Links],
    harbor: &Harbor,
    context: &Context,
) -> Result<BTreeMap<Hostname, Vec<String>>, Error> {
    let moves = |survey: &&Links| survey.links.iter().any(|link| link.code == "nameservers-not-as-expected");
    let mut zones = BTreeSet::new();
    for name in surveys.iter().filter(moves).filter_map(|survey| survey.hostname.name()) {
        zones.extend(harbor.store.enclosing_zone(name)?.map(|zone| zone.name));
    }
    let mut lost = BTreeMap::new();
    for zone in zones {
        context.progress.doing(&format!("comparing {zone} with what the world is answered"));
        let sets = context.block_on(losses(harbor, &zone))?.unwrap_or_default();
        lost.insert(zone, sets);
    }
    lost.retain(|_, sets: &mut Vec<String>| !sets.is_empty());
    Ok(lost)
}

fn metrics(surveys: &[Links]) -> String {
    let mut metrics = Metrics::default();
    let mut counts: BTreeMap<(&str, &str), i64> = BTreeMap::new();
    for link in surveys.iter().flat_map(|survey| &survey.links) {
        *counts.entry((link.name.word(), link.state.word())).or_default() += 1;
    }
    let counted = counts.into_iter().map(|((link, state), count)| (vec![("link", link), ("state", state)], count));
    metrics.gauge("links", "Links of hostnames, by state.", counted);
    let stopped = surveys.iter().filter_map(|survey| {
        let link = survey.first_open()?;
        let name = survey.hostname.as_str();
        Some((vec![("hostname", name), ("link", link.name.word()), ("code", link.code)], 1))
    });
    metrics.gauge("hostname_stops", "Hostnames that do not work, with the first link that does not hold.", stopped);
    metrics.single("survey_written_seconds", "When this was written.", clock::now().as_second());
    metrics.into_text()
}

/// The hostnames, each once.
fn chosen(args: &Survey, harbor: &Harbor) -> Result<Vec<Host>, Error> {
    let mut names: Vec<Host> = match (&args.account, &args.from_file) {
        _ if args.all => harbor.store.hostnames()?,
        (Some(account), _) => {
            let account = find_account(harbor, account)?;
            harbor.store.sites(Some(&account.name))?.into_iter().flat_map(|site| site.hostnames).collect()
        }
        (None, Some(file)) => {
            let mut names = Vec::new();
            for (number, line) in files::given_list(file, "give a text file with one hostname a line")? {
                let at = |error: Error| Error {
                    message: format!("{}:{number}: {}", file.display(), error.message),
                    ..error
                };
                names.push(host(&line).map_err(at)?);
            }
            names
        }
        (None, None) => args.hostnames.iter().map(|typed| host(typed)).collect::<Result<_, _>>()?,
    };
    let mut seen = HashSet::new();
    names.retain(|name| seen.insert(name.clone()));
    Ok(names)
}

struct Surveyed {
    surveys: Vec<Links>,
    /// Only where resolvers were named.
    spreads: Vec<Spread>,
    /// What domains would lose with the move that they are waited for.
    lost: BTreeMap<Hostname, Vec<String>>,
    /// Whether they were not named one by one: a line for each will do.
    listed: bool,
    /// What became of telling whoever wants to be told.
    notified: Option<Notified>,
}

impl Shown for Surveyed {
    fn human(&self, page: &mut Page) {
        match self.listed {
            true => human::survey_list(page, &self.surveys),
            false => human::surveys(page, &self.surveys),
        }
        for (zone, sets) in &self.lost {
            page.blank();
            let words = format!(
                "before {zone} moves: with it the world would lose or change {}; see `brightharbor zone compare {zone}`",
                sets.join(", ")
            );
            page.hanging("note: ", &words);
        }
        self.spreads.iter().for_each(|spread| human::spread(page, spread));
        self.notified.iter().for_each(|notified| human::notified(page, notified));
    }

    fn json(&self) -> Value {
        let surveys: Vec<_> = self.surveys.iter().map(json::SurveyDocument::from).collect();
        json!({
            "command": "survey",
            "reasons": reasons(&self.surveys).into_iter().collect::<std::collections::BTreeMap<_, _>>(),
            "surveys": surveys,
            "would_lose": self.lost,
            "notified": self.notified.as_ref().map(json::NotifiedDocument::from),
            "spreads": self.spreads.iter().map(json::SpreadDocument::from).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        let open = self.surveys.iter().any(|survey| !survey.all_hold());
        exit_of(&self.surveys, if open { Exit::Waits } else { Exit::Done })
    }
}
