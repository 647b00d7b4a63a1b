//! `nameserver add`: a new set, with its addresses in the zones of this harbor.

use brightharbor_core::account::AccountName;
use brightharbor_core::nameserver::{AddSet, Member, add_set};
use brightharbor_io::load;
use clap::Args;

use crate::commands::{Report, account_name};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::ChangeReport;

/// Add a nameserver set: names that domains are delegated to together.
#[derive(Debug, Args)]
pub struct Add {
    /// Its name: lower-case letters, digits and hyphens.
    set: String,
    /// The nameservers, the primary first: NAME, or NAME=ADDRESS,ADDRESS. Names inside a zone of this harbor need
    /// their addresses.
    #[arg(required = true, value_name = "NAME[=ADDRESS,...]")]
    members: Vec<Member>,
    /// The account that it is for, with names of its own: those of the provider must not show.
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    /// For how many domains it is made.
    #[arg(long, value_name = "COUNT")]
    capacity: Option<u32>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Add, context: &Context) -> Report {
    let name = AccountName::parse(&args.set).map_err(|_| {
        Error::wrong_use(format!("`{}` is not a nameserver set name", args.set.escape_debug()))
            .advice("1 to 31 lower-case letters, digits or hyphens, a letter first")
    })?;
    // `none` and `host` mean something else wherever a set is named.
    if matches!(name.as_str(), "none" | "host") {
        return Err(Error::wrong_use(format!("no set can be called `{name}`"))
            .advice("`host` is that of [host] in harbor.toml, and `none` means no set"));
    }
    let title = format!("nameserver add {name}");
    let account = args.account.as_deref().map(account_name).transpose()?;
    let request = AddSet { name, members: args.members.clone(), account, capacity: args.capacity };
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let known = load::known_set(overlay, request.name.as_str())?;
        let is_there = match &request.account {
            Some(account) => overlay.account(account)?.is_some(),
            None => false,
        };
        let zones = load::member_zones(overlay, request.members.iter().map(|member| &member.name)).await?;
        Ok((add_set(&request, &known, is_there, &zones, now)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "nameserver add", carried }))
}
