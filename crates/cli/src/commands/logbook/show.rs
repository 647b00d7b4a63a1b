//! `logbook show`: one entry whole, with the files as they were before and after as far as that is known.

use brightharbor_core::change::{Before, FileLeft, Purpose, UndoLoaded, UndoRefusal, content_hash, undo};
use brightharbor_core::zone::serial_date;
use brightharbor_io::clock;
use brightharbor_io::load;
use brightharbor_io::overlay::{Answers, Overlay};
use brightharbor_io::store::Entry;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::human::{Page, file_diff, when};
use crate::show::{Shown, words};

/// Show one entry: its changes, the files before and after, how it ended, and whether it can be taken back.
#[derive(Debug, Args)]
pub struct Show {
    /// The number in `logbook`.
    entry: i64,
}

pub fn run(args: &Show, context: &Context) -> Report {
    let harbor = context.open()?;
    let (entry, inverses) = harbor.store.entry(Some(args.entry))?.ok_or(UndoRefusal::NoEntry(Some(args.entry)))?;
    let answers = Answers::default();
    let overlay = Overlay::new(&harbor, &answers);
    let loaded = context.block_on(load::undo(&overlay, &entry, &inverses))??;
    let why_not = undo(&loaded, &harbor.settings, &harbor.layout, serial_date(clock::now())).err().map(Error::from);
    Ok(Box::new(EntryPage { entry, diff: diff(&loaded), why_not }))
}

/// The files as the entry found them and left them. What has changed since, or is secret, is left out.
fn diff(loaded: &UndoLoaded) -> String {
    let shown = |file: &&FileLeft| {
        let is_open =
            !matches!(file.purpose, Purpose::Key | Purpose::Chain | Purpose::Staple | Purpose::Request | Purpose::Copy);
        is_open && file.before != Before::Lost && file.now.as_deref().map(content_hash) == file.wrote
    };
    let one = |file: &FileLeft| {
        let before = match &file.before {
            Before::Content(content) => Some(&content[..]),
            Before::Nothing | Before::Lost => None,
        };
        file_diff(&file.path, before, file.now.as_deref())
    };
    loaded.files.iter().filter(shown).map(one).collect()
}

struct EntryPage {
    entry: Entry,
    diff: String,
    /// Why it cannot be taken back; `None`: it can.
    why_not: Option<Error>,
}

impl Shown for EntryPage {
    fn human(&self, page: &mut Page) {
        let entry = &self.entry;
        page.heading(&format!("{}: {}", entry.id, entry.title));
        page.line(&format!("  {} by {}, {}", when(entry.at, clock::now()), entry.who, super::outcome(entry)));
        page.blank();
        page.line("Changes:");
        for change in &entry.changes.changes {
            page.hanging("  ", &words::change_line(change));
        }
        if !self.diff.is_empty() {
            page.blank();
            self.diff.lines().for_each(|line| page.line(line));
        }
        page.blank();
        match &self.why_not {
            None => page.hanging("", &format!("It can be taken back: brightharbor undo {}", entry.id)),
            Some(error) => page.hanging("", &format!("It cannot be taken back: {}", error.message)),
        }
    }

    fn json(&self) -> Value {
        let mut document = super::document(&self.entry);
        document["command"] = "logbook show".into();
        document["diff"] = self.diff.clone().into();
        document["can_be_undone"] = self.why_not.is_none().into();
        document["why_not"] =
            json!(self.why_not.as_ref().map(|error| json!({ "code": error.code, "message": error.message })));
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
