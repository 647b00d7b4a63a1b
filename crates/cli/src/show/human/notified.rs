//! What became of telling the command of `[notify]`, in a line.

use brightharbor_io::notify::Notified;

use super::Page;
use crate::show::counted;

/// What became of telling the command of `[notify]`.
pub fn notified(page: &mut Page, notified: &Notified) {
    match &notified.problem {
        Some(problem) => {
            let left = counted(notified.left, "notice");
            page.hanging("note: ", &format!("{left} not told; the next run tries again: {problem}"));
        }
        None if notified.left > 0 => {
            let told = counted(notified.told, "change");
            page.line(&format!("Told of {told}; {} more with the next run.", notified.left));
        }
        None if notified.told > 0 => page.line(&format!("Told of {}.", counted(notified.told, "change"))),
        None => {}
    }
}
