//! `logbook`: what was done, by whom, and how it ended.

mod show;

use brightharbor_io::clock;
use brightharbor_io::store::Entry;
use clap::{Args, Subcommand};
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::Exit;
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, when};
use crate::show::words;

/// Show what was done in this harbor, the newest first.
#[derive(Debug, Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Logbook {
    #[command(subcommand)]
    command: Option<OfOne>,
    /// How many entries at most.
    #[arg(long, default_value_t = 20, value_name = "NUMBER")]
    last: u32,
    #[command(flatten)]
    with: WithText,
}

#[derive(Debug, Subcommand)]
enum OfOne {
    Show(show::Show),
}

pub fn run(args: &Logbook, context: &Context) -> Report {
    if let Some(OfOne::Show(show)) = &args.command {
        return show::run(show, context);
    }
    let harbor = context.open()?;
    // A text is looked for in all of them.
    let most = if args.with.is_given() { u32::MAX } else { args.last };
    let entries = harbor.store.logbook(most)?;
    let mut entries = args.with.narrow(entries, harbor.store.count_entries()?, |entry| cells(entry, clock::now()));
    entries.rows.truncate(args.last as usize);
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
    entries: Narrowed<Entry>,
}

fn cells(entry: &Entry, now: Timestamp) -> Vec<String> {
    let changes = entry.changes.changes.len().to_string();
    vec![entry.id.to_string(), when(entry.at, now), entry.who.clone(), entry.title.clone(), changes, outcome(entry)]
}

impl Shown for Entries {
    fn human(&self, page: &mut Page) {
        let (now, none) = (clock::now(), "Nothing has been changed in this harbor yet.");
        let headings = ["no.", "when", "who", "what", "changes", "outcome"];
        self.entries.show(page, "entry", none, &headings, |entry| cells(entry, now));
    }

    fn json(&self) -> Value {
        let rows: Vec<Value> = self.entries.rows.iter().map(document).collect();
        let mut document = json!({ "command": "logbook", "entries": rows });
        self.entries.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
