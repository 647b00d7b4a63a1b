//! `nameserver`: nameserver sets, those of harbor.toml and those made by commands.

pub mod add;
pub mod change;
pub mod check;
pub mod list;
pub mod remove;

use brightharbor_core::harbor::NameserverSet;
use clap::Subcommand;
use serde_json::{Value, json};

#[derive(Debug, Subcommand)]
pub enum NameserverCommand {
    Add(add::Add),
    Change(change::ChangeSetMembers),
    Check(check::Check),
    List(list::List),
    Remove(remove::Remove),
    Show(list::Show),
}

/// A set for programs.
fn document(name: &str, set: &NameserverSet, domains: u32) -> Value {
    json!({
        "name": name,
        "nameservers": set.nameservers.iter().map(|name| json!({
            "name": name.bare(),
            "addresses": set.addresses.get(name).cloned().unwrap_or_default(),
        })).collect::<Vec<_>>(),
        "account": set.account,
        "capacity": set.capacity,
        "domains": domains,
    })
}
