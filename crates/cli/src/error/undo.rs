//! Why an entry of the logbook is not taken back, in words.

use brightharbor_core::change::{ForGood, UndoRefusal};
use brightharbor_core::site::SiteRefusal;

use super::Error;

impl From<UndoRefusal> for Error {
    fn from(refusal: UndoRefusal) -> Self {
        match refusal {
            UndoRefusal::NoEntry(None) => Self::refused("no-entry", "the logbook has nothing that was done")
                .advice("there is nothing to take back"),
            UndoRefusal::NoEntry(Some(entry)) => Self::refused("no-entry", format!("the logbook has no entry {entry}"))
                .advice("see which ones there are: brightharbor logbook")
                .with("entry", entry),
            UndoRefusal::NotDone { entry, title } => {
                Self::refused("not-done", format!("entry {entry}, `{title}`, was not carried out to its end"))
                    .advice(format!("see what became of it: brightharbor logbook show {entry}"))
                    .with("entry", entry)
            }
            UndoRefusal::ChangedSince { entry, what, by } => {
                let since = match &by {
                    Some(later) => format!(", by entry {}, `{}`", later.entry, later.title),
                    None => ", by hand or by another program".to_string(),
                };
                let advice = match by.as_ref().filter(|later| !later.is_for_good) {
                    Some(later) => format!("take that one back first: brightharbor undo {}", later.entry),
                    None => format!(
                        "see what it did, and change what you want by a command: brightharbor logbook show {entry}"
                    ),
                };
                Self::refused("changed-since", format!("{what} has changed since entry {entry}{since}"))
                    .advice(advice)
                    .with("entry", entry)
                    .with("what", what)
                    .with("by", by.map(|later| later.entry))
            }
            UndoRefusal::ForGood { entry, what } => {
                let (why, advice) = for_good(&what);
                Self::refused("for-good", format!("entry {entry} stays as it is: {why}"))
                    .advice(advice)
                    .with("entry", entry)
            }
            UndoRefusal::ByHand { entry, found } => Self::from(SiteRefusal::ByHand(found)).with("entry", entry),
            UndoRefusal::NoCopies { entry, path } => {
                let message = format!(
                    "entry {entry} is too old, or was too large: what it replaced in {} is not kept",
                    path.display()
                );
                Self::refused("no-copies", message)
                    .advice(format!(
                        "see what it did, and change what you want by a command: brightharbor logbook show {entry}"
                    ))
                    .with("entry", entry)
                    .with("path", path.display().to_string())
            }
        }
    }
}

fn for_good(what: &ForGood) -> (String, String) {
    match what {
        ForGood::ToldToCa => ("a CA was told".into(), "what a CA has done stays done".into()),
        ForGood::Certificate => (
            "it put a certificate or key in place, or took one away".into(),
            "put a former one back: brightharbor certificate list --former".into(),
        ),
        ForGood::Service(name) => (
            format!("the service {name} got a certificate"),
            "change [services] in harbor.toml, then: brightharbor certificate install".into(),
        ),
        ForGood::TakenOver(zone) => (
            format!("the zone {zone} was taken over from the DNS server's own configuration"),
            format!("what `brightharbor zone remove {zone}` does, it shows first with --dry-run"),
        ),
        ForGood::Remote(zone) => (
            format!("the records of {zone} were changed at its primary server"),
            "change them back by `record add`, `record remove` or `record replace`".into(),
        ),
    }
}
