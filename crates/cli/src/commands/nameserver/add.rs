//! `nameserver add`: a new set, with its addresses in the zones of this harbor.

use brightharbor_core::account::AccountName;
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::nameserver::{Member, set_of, weaknesses};
use brightharbor_core::zone::serial_date;
use clap::Args;

use super::{bring_addresses, glue_words, owner};
use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
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
        Error::wrong_use(format!("`{}` is no name of a nameserver set", args.set.escape_debug()))
            .advice("1 to 31 lower-case letters, digits or hyphens, a letter first")
    })?;
    // `none` and `host` mean something else wherever a set is named.
    if matches!(name.as_str(), "none" | "host") {
        return Err(Error::wrong_use(format!("no set can be called `{name}`"))
            .advice("`host` is that of [host] in harbor.toml, and `none` means no set"));
    }
    let title = format!("nameserver add {name}");
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        if harbor.settings.nameserver_set(Some(name.as_str())).is_some() {
            return Err(Error::refused("set-exists", format!("there is a nameserver set `{name}` already"))
                .advice("see `brightharbor nameserver list`"));
        }
        let set = NameserverSet {
            capacity: args.capacity,
            account: owner(harbor, args.account.as_deref())?,
            ..set_of(&args.members)
        };
        let mut changes = ChangeSet::new(&title);
        let names = set.nameservers.iter().map(|name| name.bare()).collect::<Vec<_>>().join(", ");
        let mut said = vec![format!("the nameserver set {name} has {names}")];
        said.extend(weaknesses(&set));
        let today = serial_date(now);
        said.extend(bring_addresses(harbor, &set, today, &mut changes).await?);
        said.extend(glue_words(&set));
        changes.inventory(InventoryChange::SetNameservers { name: name.to_string(), before: None, after: set });
        Ok(Decision { set: changes, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "nameserver add", changed }))
}
