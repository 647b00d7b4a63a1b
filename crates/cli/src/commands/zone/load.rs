//! `zone load`: zone files that were edited by hand are checked, given a serial that servers take, and loaded.

use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{LoadOutcome, LoadRefused, load_zones};
use brightharbor_io::load;
use clap::Args;
use serde_json::{Value, json};

use super::chosen::Chosen;
use crate::commands::Report;
use crate::error::Exit;
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{Page, list};
use crate::show::{Shown, counted, json};

/// Load zone files that were edited by hand. Without zones: show which differ from what is served.
///
/// Each file is checked first. Where its serial is not above those of all servers, it is raised; what a server would refuse
/// stays as it is served, and holds up no other. A zone that is named is loaded in any case. Without names the server is asked
/// for all that the files have; what was only taken out of a file is not always seen.
#[derive(Debug, Args)]
pub struct Load {
    #[command(flatten)]
    chosen: Chosen,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Load, context: &Context) -> Report {
    let options = ChangeOptions { dry_run: args.options.dry_run || !args.chosen.any(), ..args.options.clone() };
    context.progress.doing("comparing zone files with what is served");
    let (carried, outcomes) = context.block_on(change(context, "zone load", &options, async |overlay, now| {
        let loadable = load::loadable(overlay, args.chosen.zones(overlay)?, !args.chosen.by_name()).await?;
        Ok(load_zones(&loadable, now))
    }))??;
    Ok(Box::new(Loaded { carried, outcomes, chosen: args.chosen.any() }))
}

struct Loaded {
    carried: Carried,
    outcomes: Vec<(Hostname, LoadOutcome)>,
    chosen: bool,
}

impl Loaded {
    fn count(&self, fits: fn(&LoadOutcome) -> bool) -> usize {
        self.outcomes.iter().filter(|(_, outcome)| fits(outcome)).count()
    }

    fn loads(&self) -> usize {
        self.count(|outcome| matches!(outcome, LoadOutcome::Loads { .. }))
    }

    fn refused(&self) -> usize {
        self.count(|outcome| matches!(outcome, LoadOutcome::Refused(_)))
    }
}

fn refused_words(why: &LoadRefused) -> String {
    match why {
        LoadRefused::Unread(words) => words.clone(),
        LoadRefused::OfServer => "the server holds it and takes updates: use the `record` commands".into(),
        LoadRefused::Fault(finding) => {
            let place = finding.place.map(|place| format!("line {}: ", place.line)).unwrap_or_default();
            format!("{place}{} ({})", finding.message, finding.code)
        }
        LoadRefused::Edit(error) => format!("its serial cannot be raised: {error}"),
    }
}

impl Shown for Loaded {
    fn human(&self, page: &mut Page) {
        let (loads, all, done) = (self.loads(), counted(self.outcomes.len(), "zone"), self.carried.entry.is_some());
        page.heading(&match (done, loads + self.refused()) {
            (_, 0) => format!("Everything that the files have is served ({all})."),
            (true, _) => format!("Loaded {loads} of {all}."),
            (false, _) => format!("{loads} of {all} differ from what is served; nothing was changed."),
        });
        let rows = self.outcomes.iter().filter_map(|(zone, outcome)| {
            let words = match outcome {
                LoadOutcome::Served { .. } => return None,
                LoadOutcome::Loads { serial, raised_from: None } => format!("serial {serial}"),
                LoadOutcome::Loads { serial, raised_from: Some(from) } => {
                    format!("serial {serial}, raised from {from}: servers would not have taken that")
                }
                LoadOutcome::Refused(why) => format!("stays as it is served: {}", refused_words(why)),
            };
            Some(vec![zone.to_string(), words])
        });
        let rows: Vec<_> = rows.collect();
        if !rows.is_empty() {
            page.blank();
            list(page, &["zone", "what comes of it"], rows);
        }
        if !done && loads > 0 && !self.chosen {
            page.blank();
            page.hanging("next: ", "brightharbor zone load --all, or with zone names");
        }
    }

    fn json(&self) -> Value {
        let row = |(zone, outcome): &(Hostname, LoadOutcome)| {
            let (word, serial, from, why) = match outcome {
                LoadOutcome::Loads { serial, raised_from } => ("loads", Some(serial), *raised_from, None),
                LoadOutcome::Served { serial } => ("served", Some(serial), None, None),
                LoadOutcome::Refused(why) => ("refused", None, None, Some(refused_words(why))),
            };
            json!({ "zone": zone, "outcome": word, "serial": serial, "raised_from": from, "reason": why })
        };
        json!({
            "command": "zone load",
            "carried_out": self.carried.entry.is_some(),
            "change": json::ChangeDocument::from(&self.carried),
            "zones": self.outcomes.iter().map(row).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        match (self.refused(), self.carried.entry, self.loads()) {
            (1.., _, _) => Exit::Fault,
            (0, None, 1..) if !self.chosen => Exit::Waits,
            _ => Exit::Done,
        }
    }
}
