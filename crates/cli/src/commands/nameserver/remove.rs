//! `nameserver remove`: a set that no zone and no account uses any more.

use brightharbor_core::nameserver::remove_set;
use brightharbor_io::load;
use clap::Args;

use crate::commands::Report;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::ChangeReport;

/// Remove a nameserver set that nobody uses. Address records of its names stay in their zones.
#[derive(Debug, Args)]
pub struct Remove {
    /// The set.
    set: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Remove, context: &Context) -> Report {
    let title = format!("nameserver remove {}", args.set);
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, _| {
        let known = load::known_set(overlay, &args.set)?;
        let zones = overlay.store.zones_with_set(Some(&args.set))?;
        let accounts = overlay.store.accounts_with_set(&args.set)?;
        Ok((remove_set(&args.set, &known, zones, accounts)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "nameserver remove", carried }))
}
