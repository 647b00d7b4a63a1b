//! `logbook`: what was done, by whom, and how it ended.

mod show;

use brightharbor_io::clock;
use brightharbor_io::store::Entry;
use clap::{Args, Subcommand};
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::Exit;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, list, when};
use crate::show::words;

/// Show what was done in this harbor, the newest first.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Logbook {
    #[command(subcommand)]
    command: Option<OfOne>,
    /// How many entries.
    #[arg(long, default_value_t = 20, value_name = "NUMBER")]
    last: u32,
}

#[derive(Debug, Subcommand)]
enum OfOne {
    Show(show::Show),
}

pub fn run(args: &Logbook, context: &Context) -> Report {
    if let Some(OfOne::Show(show)) = &args.command {
        return show::run(show, context);
    }
    let entries = context.open()?.store.logbook(args.last)?;
    Ok(Box::new(Entries { entries }))
}

/// How it ended, with what is worth telling of it.
fn outcome(entry: &Entry) -> String {
    match entry.detail.as_str() {
        "" => entry.outcome.words().to_string(),
        detail => format!("{}: {detail}", entry.outcome.words()),
    }
}

fn document(entry: &Entry) -> Value {
    json!({
        "entry": entry.id,
        "at": entry.at.to_string(),
        "who": entry.who,
        "what": entry.title,
        "changes": entry.changes.changes.iter().map(words::change_document).collect::<Vec<_>>(),
        "outcome": entry.outcome.words(),
        "detail": entry.detail,
    })
}

struct Entries {
    entries: Vec<Entry>,
}

impl Shown for Entries {
    fn human(&self, page: &mut Page) {
        if self.entries.is_empty() {
            return page.line("Nothing has been changed in this harbor yet.");
        }
        let now = clock::now();
        let row = |entry: &Entry| {
            let changes = entry.changes.changes.len().to_string();
            vec![
                entry.id.to_string(),
                when(entry.at, now),
                entry.who.clone(),
                entry.title.clone(),
                changes,
                outcome(entry),
            ]
        };
        list(page, &["no.", "when", "who", "what", "changes", "outcome"], self.entries.iter().map(row).collect());
    }

    fn json(&self) -> Value {
        json!({ "command": "logbook", "entries": self.entries.iter().map(document).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
