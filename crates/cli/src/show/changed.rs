//! The report of a command whose whole result is one change: what was changed, and where the copies are.
//!
//! Commands with more to tell (a walk, a certificate, a list of values) have a report of their own.

use serde_json::{Value, json};

use super::Shown;
use super::human::{self, Page};
use super::json::ChangeDocument;
use crate::error::Exit;
use crate::run::Changed;

pub struct ChangeReport {
    /// As typed: `redirect add`.
    pub command: &'static str,
    pub changed: Changed,
}

impl Shown for ChangeReport {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
    }

    fn json(&self) -> Value {
        json!({ "command": self.command, "change": ChangeDocument::from(&self.changed) })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
