//! The report of a command whose whole result is one change: what was changed, or would be.
//!
//! Commands with more to tell (a walk, a certificate, a list of values) have a report of their own.

use serde_json::{Value, json};

use super::Shown;
use super::human::{self, Page};
use super::json::ChangeDocument;
use crate::error::Exit;
use crate::run::Carried;

pub struct ChangeReport {
    /// As typed: `redirect add`.
    pub command: &'static str,
    pub carried: Carried,
}

impl Shown for ChangeReport {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.carried);
    }

    fn json(&self) -> Value {
        json!({ "command": self.command, "change": ChangeDocument::from(&self.carried) })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(Exit::Done)
    }
}

impl Carried {
    /// A dry run ends as the real run would: refused, if something has to be consented to first.
    pub fn exit(&self, otherwise: Exit) -> Exit {
        if self.missing.is_empty() { otherwise } else { Exit::Refused }
    }
}
