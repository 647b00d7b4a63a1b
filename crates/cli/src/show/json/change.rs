//! A change set and what became of it.

use brightharbor_core::change::Change;
use serde::Serialize;

use crate::run::Changed;
use crate::show::human::diff;

#[derive(Serialize)]
pub struct ChangeDocument {
    carried_out: bool,
    /// The logbook entry.
    entry: Option<i64>,
    said: Vec<String>,
    changes: Vec<String>,
    diff: String,
}

impl From<&Changed> for ChangeDocument {
    fn from(changed: &Changed) -> Self {
        Self {
            carried_out: changed.entry.is_some(),
            entry: changed.entry,
            said: changed.said.clone(),
            changes: changed.set.changes.iter().map(Change::line).collect(),
            diff: diff(&changed.set),
        }
    }
}
