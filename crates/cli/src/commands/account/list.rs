//! `account list`: the accounts, with how many sites each has.

use brightharbor_core::account::Account;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_account};
use crate::error::{Error, Exit};
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;

/// List the accounts.
#[derive(Debug, Args)]
pub struct List {
    /// Only those that this account sold.
    #[arg(long, value_name = "ACCOUNT")]
    reseller: Option<String>,
    #[command(flatten)]
    with: WithText,
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
    let rows = rows.collect::<Result<_, Error>>()?;
    let of = harbor.store.accounts()?.len();
    Ok(Box::new(Accounts { accounts: args.with.narrow(rows, of, cells) }))
}

struct Accounts {
    accounts: Narrowed<(Account, u64)>,
}

fn cells((account, sites): &(Account, u64)) -> Vec<String> {
    vec![account.name.to_string(), sites.to_string(), account.email.clone(), account.home.display().to_string()]
}

impl Shown for Accounts {
    fn human(&self, page: &mut Page) {
        let none = "No accounts yet. Add one: brightharbor account add NAME --email ADDRESS";
        self.accounts.show(page, "account", none, &["account", "sites", "e-mail", "home"], cells);
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
        let rows: Vec<Value> = self.accounts.rows.iter().map(row).collect();
        let mut document = json!({ "command": "account list", "accounts": rows });
        self.accounts.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
