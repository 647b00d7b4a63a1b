//! `plan remove`: only while no account has it.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use clap::Args;

use super::find;
use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;

/// Remove a plan that no account has.
#[derive(Debug, Args)]
pub struct Remove {
    /// The plan.
    name: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Remove, context: &Context) -> Report {
    let title = format!("plan remove {}", args.name);
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let plan = find(harbor, &args.name)?;
        let accounts = harbor.store.accounts()?;
        let holders: Vec<&str> = accounts
            .iter()
            .filter(|account| account.plan.as_ref() == Some(&plan.name))
            .map(|a| a.name.as_str())
            .collect();
        if !holders.is_empty() {
            let message = format!("the plan {} is that of {}", plan.name, holders.join(", "));
            return Err(Error::refused("plan-in-use", message)
                .advice("give them another one: brightharbor account change ACCOUNT --plan PLAN"));
        }
        let said = vec![format!("the plan {} is removed", plan.name)];
        let mut set = ChangeSet::new(&title);
        set.inventory(InventoryChange::RemovePlan(plan));
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "plan remove", changed }))
}
