//! A plan and what became of it: every remark, consent and change an object with its code.

use serde::Serialize;
use serde_json::Value;

use crate::run::Carried;
use crate::show::human::diff;
use crate::show::words;

#[derive(Serialize)]
pub struct ChangeDocument {
    carried_out: bool,
    /// The logbook entry.
    entry: Option<i64>,
    remarks: Vec<Value>,
    /// What has to be consented to: all of it for a dry run, given or not.
    consents: Vec<Value>,
    changes: Vec<Value>,
    diff: String,
}

impl From<&Carried> for ChangeDocument {
    fn from(carried: &Carried) -> Self {
        let done = carried.entry.is_some();
        Self {
            carried_out: done,
            entry: carried.entry,
            remarks: carried.plan.remarks.iter().map(|remark| words::remark(remark).document(done)).collect(),
            consents: carried.plan.consents.iter().map(|one| words::consent(one).document(done)).collect(),
            changes: carried.plan.set.changes.iter().map(|change| words::change_document(&change.into())).collect(),
            diff: diff(&carried.plan.set),
        }
    }
}
