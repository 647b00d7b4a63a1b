//! `account list`: the accounts, with how many sites each has.

use brightharbor_core::account::Account;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_account};
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, list};

/// List the accounts.
#[derive(Debug, Args)]
pub struct List {
    /// Only those that this account sold.
    #[arg(long, value_name = "ACCOUNT")]
    reseller: Option<String>,
}

pub fn run(args: &List, context: &Context) -> Report {
    let harbor = context.open()?;
    let accounts = match &args.reseller {
        Some(typed) => harbor.store.sold_by(&find_account(&harbor, typed)?.name)?,
        None => harbor.store.accounts()?,
    };
    let rows = accounts.into_iter().map(|account| {
        let sites = harbor.store.count_sites(&account.name)?;
        Ok((account, sites))
    });
    Ok(Box::new(Accounts { rows: rows.collect::<Result<_, Error>>()? }))
}

struct Accounts {
    rows: Vec<(Account, u64)>,
}

impl Shown for Accounts {
    fn human(&self, page: &mut Page) {
        if self.rows.is_empty() {
            return page.line("No accounts yet. Add one: brightharbor account add NAME --email ADDRESS");
        }
        let row = |(account, sites): &(Account, u64)| {
            vec![account.name.to_string(), sites.to_string(), account.email.clone(), account.home.display().to_string()]
        };
        list(page, &["account", "sites", "e-mail", "home"], self.rows.iter().map(row).collect());
    }

    fn json(&self) -> Value {
        let row = |(account, sites): &(Account, u64)| {
            json!({
                "name": account.name.as_str(),
                "email": account.email,
                "home": account.home.display().to_string(),
                "system_user": account.system_user,
                "plan": account.plan,
                "reseller": account.reseller,
                "sites": sites,
            })
        };
        json!({ "command": "account list", "accounts": self.rows.iter().map(row).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
