//! What `certificate prove` has put in place and seen, shown.

use brightharbor_core::site::Site;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::demands::Seen;
use crate::error::Exit;
use crate::run::Changed;
use crate::show::human::{self, Page, table};
use crate::show::{Shown, json};

pub struct Proven {
    pub changed: Changed,
    pub site: Site,
    pub seen: Vec<Seen>,
    /// What others have to enter.
    pub handed_over: Vec<String>,
    pub removed: bool,
    /// Whether it was looked at: not for a dry run.
    pub asked: bool,
}

impl Shown for Proven {
    fn human(&self, page: &mut Page) {
        if !self.asked {
            return human::change_report(page, &self.changed);
        }
        if self.seen.is_empty() {
            self.changed.said.iter().for_each(|said| page.hanging("", said));
            if self.changed.entry.is_none() {
                page.line(&format!("Nothing that a seller demands is in place for {}.", self.site.main()));
                page.hanging("next: ", "put it there with --file FILE or --record \"NAME TYPE DATA\"");
            }
            return;
        }
        self.changed.said.iter().for_each(|said| page.hanging("note: ", said));
        let missing = self.seen.iter().filter(|one| !one.seen).count();
        let all = self.seen.len();
        page.heading(&match missing {
            0 => format!("The seller can look at {} now: everything is seen.", self.site.main()),
            _ => format!("The seller would not see all of it yet: {missing} of {all} missing."),
        });
        let day = |until: Timestamp| until.strftime("%Y-%m-%d").to_string();
        let row =
            |one: &Seen| vec![one.subject.clone(), if one.seen { "seen" } else { "not seen" }.into(), day(one.until)];
        table(page, &["what the seller looks at", "state", "until"], self.seen.iter().map(row).collect());
        for one in &self.seen {
            if one.problem().is_some() {
                page.hanging("  ", &one.words());
            }
        }
        if !self.handed_over.is_empty() {
            page.line("To enter where that is kept:");
            self.handed_over.iter().for_each(|line| page.line(&format!("  {line}")));
        }
        let then = match missing {
            0 => "tell the seller to look; what it sends goes to brightharbor certificate import FILES".to_string(),
            _ => format!("look again: brightharbor certificate prove {}", self.site.main()),
        };
        page.hanging("next: ", &then);
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate prove",
            "change": json::ChangeDocument::from(&self.changed),
            "site": self.site.main(),
            "removed": self.removed,
            "proofs": self.seen,
            "handed_over": self.handed_over,
        })
    }

    /// Somebody else's turn, or that of time, until everything is seen.
    fn exit(&self) -> Exit {
        if self.seen.iter().all(|one| one.seen) { Exit::Done } else { Exit::Waits }
    }
}
