//! What a change of records came to, shown.

use brightharbor_core::zone::{AlterFacts, Record, show_seconds};
use jiff::{SignedDuration, Timestamp};
use serde_json::{Value, json};

use brightharbor_io::watch::Watched;

use crate::error::Exit;
use crate::run::Carried;
use crate::show::human::{self, Page, when};
use crate::show::{Shown, json, words};

pub struct RecordReport {
    pub verb: &'static str,
    pub carried: Carried,
    pub altered: AlterFacts,
    pub done: bool,
    /// When a server was seen to answer with it.
    pub loaded: Option<Timestamp>,
    pub watched: Option<Watched>,
}

impl RecordReport {
    /// Until when resolvers may give an answer of before.
    fn old_until(&self) -> Option<Timestamp> {
        self.loaded?.checked_add(SignedDuration::from_secs(self.altered.old_answers_for.into())).ok()
    }
}

impl Shown for RecordReport {
    fn human(&self, page: &mut Page) {
        for remark in &self.carried.plan.remarks {
            page.hanging("note: ", &words::remark(remark).sentence());
        }
        if !self.done {
            page.line("Dry run: nothing was changed. This would be:");
        }
        human::diff(&self.carried.plan.set).lines().skip(2).for_each(|line| page.line(line));
        for finding in &self.altered.findings {
            let prefix = format!("{}: ", finding.severity.word());
            page.hanging(&prefix, &format!("{} ({})", finding.message, finding.code));
        }
        if let (Some(loaded), Some(until)) = (self.loaded, self.old_until()) {
            let for_how_long = show_seconds(self.altered.old_answers_for.into());
            let until = when(until, loaded);
            let text = format!("Loaded. Resolvers may give the old answer until {until} ({for_how_long} from now).");
            page.hanging("", &text);
        }
        if let Some(watched) = &self.watched {
            human::watched(page, watched);
        }
    }

    fn json(&self) -> Value {
        let shown = |records: &[Record]| records.iter().map(Record::to_string).collect::<Vec<_>>();
        json!({
            "command": format!("record {}", self.verb),
            "carried_out": self.done,
            "change": json::ChangeDocument::from(&self.carried),
            "removed": shown(&self.altered.removed),
            "added": shown(&self.altered.added),
            "serial": self.altered.serial,
            "old_answers_for": self.altered.old_answers_for,
            "old_answers_until": self.old_until().map(|until| until.to_string()),
            "findings": self.altered.findings.iter().map(json::FindingDocument::from).collect::<Vec<_>>(),
            "watched": self.watched.as_ref().map(json::WatchedDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        match &self.watched {
            Some(watched) if !watched.everywhere() => Exit::Waits,
            _ => self.carried.exit(Exit::Done),
        }
    }
}
