//! What became of telling the command of `[notify]`.

use brightharbor_io::notify::Notified;
use serde::Serialize;

#[derive(Serialize)]
pub struct NotifiedDocument<'a> {
    told: usize,
    /// For the next run.
    left: usize,
    problem: Option<&'a str>,
}

impl<'a> From<&'a Notified> for NotifiedDocument<'a> {
    fn from(notified: &'a Notified) -> Self {
        Self { told: notified.told, left: notified.left, problem: notified.problem.as_deref() }
    }
}
