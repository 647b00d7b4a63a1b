//! `nameserver remove`: a set that no zone and no account uses any more.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use clap::Args;

use super::find_own;
use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::{ChangeReport, counted};

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
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let set = find_own(harbor, &args.set)?;
        let zones = harbor.store.zones_with_set(Some(&args.set))?;
        let accounts = harbor.store.accounts_with_set(&args.set)?;
        if zones + accounts > 0 {
            let (zones, accounts) = (counted(zones as usize, "zone"), counted(accounts as usize, "account"));
            let message = format!("the nameserver set {} is used by {zones} and named by {accounts}", args.set);
            return Err(Error::refused("set-in-use", message).advice(
                "move the zones first: brightharbor zone move --to SET; and the accounts: account change --nameserver-set",
            ));
        }
        let said = vec![
            format!("the nameserver set {} is removed", args.set),
            "address records of its names stay in their zones, and host objects at the registrar".to_string(),
        ];
        let mut changes = ChangeSet::new(&title);
        changes.inventory(InventoryChange::RemoveNameservers { name: args.set.clone(), set });
        Ok(Decision { set: changes, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "nameserver remove", changed }))
}
