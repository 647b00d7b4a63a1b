//! `undo`: takes back what a command did, as a change of its own.

use brightharbor_core::change::{UndoRefusal, undo};
use brightharbor_core::zone::serial_date;
use brightharbor_io::load;
use clap::Args;

use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change, until_served};
use crate::show::ChangeReport;

/// Take back what a command did, if all of it is still as that command left it.
///
/// Files and the inventory go back as they were, zones under a higher serial. Pages in homes, folders and system users stay;
/// what a CA was told cannot be taken back. Taking back an undo does it again.
#[derive(Debug, Args)]
pub struct Undo {
    /// The number in `logbook`; by default the last one that was carried out.
    entry: Option<i64>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Undo, context: &Context) -> Report {
    let title = args.entry.map_or("undo".into(), |entry| format!("undo {entry}"));
    context.block_on(async {
        let (carried, ()) = change(context, &title, &args.options, async |overlay, now| {
            let found = overlay.store.entry(args.entry)?;
            let (entry, inverses) = found.ok_or(UndoRefusal::NoEntry(args.entry))?;
            let loaded = load::undo(overlay, &entry, &inverses).await?;
            Ok::<_, Error>((undo(&loaded, &overlay.settings, &overlay.layout, serial_date(now))?, ()))
        })
        .await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "undo", carried }) as Box<dyn crate::show::Shown>)
    })?
}
