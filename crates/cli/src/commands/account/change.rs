//! `account change` and `account remove`.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::site::check_email;
use clap::Args;

use super::show::find;
use crate::commands::{Report, plan};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;

/// Change an account's e-mail address or plan.
#[derive(Debug, Args)]
pub struct ChangeAccount {
    /// The account.
    name: String,
    /// Where to reach the customer.
    #[arg(long, value_name = "ADDRESS")]
    email: Option<String>,
    /// Another plan; `none` for no limits.
    #[arg(long, value_name = "PLAN")]
    plan: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

/// Remove an account that has no sites and no zones any more. Files in its home are never deleted.
#[derive(Debug, Args)]
pub struct RemoveAccount {
    /// The account.
    name: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &ChangeAccount, context: &Context) -> Report {
    if let Some(email) = &args.email {
        check_email(email).map_err(Error::wrong_use)?;
    }
    let title = format!("account change {}", args.name);
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let before = find(harbor, &args.name)?;
        let mut after = before.clone();
        if let Some(email) = &args.email {
            after.email = email.clone();
        }
        match args.plan.as_deref() {
            None => {}
            Some("none") => after.plan = None,
            Some(typed) => after.plan = Some(plan::find(harbor, typed)?.name),
        }
        let mut set = ChangeSet::new(&title);
        let mut said = vec!["nothing is to be changed".to_string()];
        if after != before {
            let plan = after.plan.as_ref().map_or("no plan".into(), |plan| format!("the plan {plan}"));
            said = vec![format!("the account {} is reached at {} and has {plan}", after.name, after.email)];
            set.inventory(InventoryChange::ReplaceAccount { before, after });
        }
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "account change", changed }))
}

pub fn remove(args: &RemoveAccount, context: &Context) -> Report {
    let title = format!("account remove {}", args.name);
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let account = find(harbor, &args.name)?;
        let sites = harbor.store.sites(Some(&account.name))?;
        let zones: Vec<_> = harbor.store.zones()?.into_iter().filter(|zone| zone.account == account.name).collect();
        if !(sites.is_empty() && zones.is_empty()) {
            let names: Vec<&str> = sites.iter().map(|site| site.main().as_str()).take(20).collect();
            let message = format!("the account {} has {} sites and {} zones", account.name, sites.len(), zones.len());
            let advice = match names.is_empty() {
                true => "its zones are left: they go with `brightharbor detach DOMAIN --zone remove`".to_string(),
                false => format!(
                    "say what happens to its sites first: brightharbor detach {} --zone remove",
                    names.join(" ")
                ),
            };
            return Err(Error::refused("account-in-use", message).advice(advice));
        }
        let said = vec![
            format!("the account {} is removed", account.name),
            format!("its home {} stays as it is", account.home.display()),
        ];
        let mut set = ChangeSet::new(&title);
        set.inventory(InventoryChange::RemoveAccount(account));
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "account remove", changed }))
}
