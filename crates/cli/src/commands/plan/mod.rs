//! `plan`: what accounts may have.

pub mod list;
pub mod remove;
pub mod set;

use brightharbor_core::account::{AccountName, AccountPlan, Counted, Limits, check_limit};
use brightharbor_io::harbor::Harbor;
use clap::Subcommand;
use serde_json::{Value, json};

use crate::error::Error;

#[derive(Debug, Subcommand)]
pub enum PlanCommand {
    Add(set::Add),
    Change(set::Change),
    List(list::List),
    Remove(remove::Remove),
    Show(list::Show),
}

/// The plan by its name as typed.
pub fn find(harbor: &Harbor, typed: &str) -> Result<AccountPlan, Error> {
    let name = AccountName::parse(typed)
        .map_err(|_| Error::wrong_use(format!("`{}` is no name of a plan", typed.escape_debug())))?;
    harbor.store.plan(&name)?.ok_or_else(|| {
        Error::refused("unknown-plan", format!("there is no plan `{name}`")).advice("see `brightharbor plan list`")
    })
}

/// Refuses what the account's plan does not allow.
pub fn refuse_beyond(harbor: &Harbor, account: &AccountName, counted: Counted, more: u32) -> Result<(), Error> {
    let plan = match harbor.store.account(account)?.and_then(|account| account.plan) {
        Some(name) => harbor.store.plan(&name)?,
        None => None,
    };
    // Counting takes the longer the more an account has: only for what is limited.
    let Some(plan) = plan.filter(|plan| plan.limits.of(counted).is_some()) else { return Ok(()) };
    let usage = harbor.store.usage(account)?;
    check_limit(account, &plan, &usage, counted, more).map_err(|reached| {
        let (needed, option) = (reached.present + more, counted.option());
        Error::refused("limit", &reached).advice(format!(
            "raise it: brightharbor plan change {} {option} {needed}; or give the account another plan: \
             brightharbor account change {account} --plan PLAN",
            plan.name
        ))
    })
}

/// A limit as people read it.
pub fn limit_words(limit: Option<u32>) -> String {
    match limit {
        None => "any number".into(),
        Some(0) => "none".into(),
        Some(count) => count.to_string(),
    }
}

/// All limits of a plan by name.
pub fn limits(limits: &Limits) -> impl Iterator<Item = (&'static str, Option<u32>)> {
    Counted::ALL.map(|counted| (counted.words(), limits.of(counted))).into_iter()
}

/// The limits for programs; `null`: no limit.
pub fn limits_document(limits: &Limits) -> Value {
    json!({
        "addon_domains": limits.addon_domains,
        "subdomains": limits.subdomains,
        "parked_domains": limits.parked_domains,
        "redirects": limits.redirects,
        "disk_mib": limits.disk,
    })
}
