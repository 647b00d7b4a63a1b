//! What `certificate prove` has put in place and seen, shown.

use brightharbor_core::site::Site;
use brightharbor_io::secure::Demanded;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::error::Exit;
use crate::run::Carried;
use crate::show::human::{self, Page, table};
use crate::show::{Shown, json};

pub struct Proven {
    pub carried: Carried,
    pub site: Site,
    pub seen: Vec<Demanded>,
    /// What others have to enter.
    pub handed_over: Vec<String>,
    pub removed: bool,
    /// Whether it was looked at: not for a dry run.
    pub asked: bool,
}

impl Shown for Proven {
    fn human(&self, page: &mut Page) {
        if !self.asked {
            return human::change_report(page, &self.carried);
        }
        if self.seen.is_empty() {
            human::remarks(page, &self.carried.plan.remarks, false);
            if self.carried.entry.is_none() {
                page.line(&format!("{}: nothing for a certificate seller is in place.", self.site.main()));
                page.hanging("next: ", "publish it with --file FILE or --record \"NAME TYPE DATA\"");
            }
            return;
        }
        human::remarks(page, &self.carried.plan.remarks, false);
        let missing = self.seen.iter().filter(|one| one.problem.is_some()).count();
        let all = self.seen.len();
        page.heading(&match missing {
            0 => format!("{}: everything that the seller checks is visible.", self.site.main()),
            _ => format!("{}: {missing} of {all} checks of the seller would fail.", self.site.main()),
        });
        let day = |until: Timestamp| until.strftime("%Y-%m-%d").to_string();
        let row = |one: &Demanded| {
            let state = if one.problem.is_none() { "seen" } else { "not seen" };
            vec![one.subject.clone(), state.into(), day(one.demand.until)]
        };
        table(page, &["what the seller checks", "state", "until"], self.seen.iter().map(row).collect());
        for one in &self.seen {
            if let Some(problem) = &one.problem {
                page.hanging("  ", &format!("{}: {problem}", one.subject));
            }
        }
        if !self.handed_over.is_empty() {
            page.line("To enter where that is kept:");
            self.handed_over.iter().for_each(|line| page.line(&format!("  {line}")));
        }
        let then = match missing {
            0 => "ask the seller to check; import what it sends: brightharbor certificate import FILES".to_string(),
            _ => format!("check again: brightharbor certificate prove {}", self.site.main()),
        };
        page.hanging("next: ", &then);
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate prove",
            "change": json::ChangeDocument::from(&self.carried),
            "site": self.site.main(),
            "removed": self.removed,
            "proofs": self.seen.iter().map(json::demanded_document).collect::<Vec<_>>(),
            "handed_over": self.handed_over,
        })
    }

    /// Somebody else's turn, or that of time, until everything is seen.
    fn exit(&self) -> Exit {
        self.carried.exit(if self.seen.iter().all(|one| one.problem.is_none()) { Exit::Done } else { Exit::Waits })
    }
}
