//! `plan remove`: only while no account has it.

use brightharbor_core::account::remove_plan;
use clap::Args;

use crate::commands::{Report, plan_name};
use crate::options::ChangeOptions;
use crate::run::{Context, change};
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
    let name = plan_name(&args.name)?;
    let title = format!("plan remove {name}");
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, _| {
        let accounts = overlay.store.accounts()?.into_iter().filter(|account| account.plan.as_ref() == Some(&name));
        let holders = accounts.map(|account| account.name).collect();
        Ok((remove_plan(&name, overlay.store.plan(&name)?.as_ref(), holders)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "plan remove", carried }))
}
