//! `nameserver`: nameserver sets, those of harbor.toml and those made by commands.

pub mod add;
pub mod change;
pub mod check;
pub mod list;
pub mod remove;

use brightharbor_core::account::AccountName;
use brightharbor_core::change::ChangeSet;
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::{DnsName, Hostname, registrable_domain};
use brightharbor_core::nameserver::align_addresses;
use brightharbor_core::zone::ZoneHome;
use brightharbor_io::harbor::Harbor;
use clap::Subcommand;
use jiff::civil::Date;
use serde_json::{Value, json};

use crate::error::Error;
use crate::pending;

#[derive(Debug, Subcommand)]
pub enum NameserverCommand {
    Add(add::Add),
    Change(change::ChangeSetMembers),
    Check(check::Check),
    List(list::List),
    Remove(remove::Remove),
    Show(list::Show),
}

/// A set by its name; that of `[host]` goes by `host`.
pub fn find(harbor: &Harbor, name: &str) -> Result<NameserverSet, Error> {
    let set = match name {
        "host" => harbor.settings.nameserver_set(None),
        name => harbor.settings.nameserver_set(Some(name)),
    };
    set.ok_or_else(|| {
        Error::refused("unknown-set", format!("there is no nameserver set `{}`", name.escape_debug()))
            .advice("see `brightharbor nameserver list`")
    })
}

/// A set that commands may change: those of harbor.toml are changed there.
pub fn find_own(harbor: &Harbor, name: &str) -> Result<NameserverSet, Error> {
    let set = find(harbor, name)?;
    if harbor.store.nameserver_sets()?.contains_key(name) {
        return Ok(set);
    }
    Err(Error::refused("set-in-settings", format!("the nameserver set `{name}` stands in harbor.toml"))
        .advice("change it there, then bring the zones in step: brightharbor zone realign"))
}

/// The zone of the harbor that a nameserver's name lies in.
fn zone_of(harbor: &Harbor, name: &DnsName) -> Result<Option<brightharbor_core::zone::Zone>, Error> {
    match Hostname::parse(&name.bare()) {
        Ok(name) => Ok(harbor.store.enclosing_zone(&name)?),
        Err(_) => Ok(None),
    }
}

/// Writes the addresses of the set's names into the zones of this harbor that they lie in; and says what others must do.
async fn bring_addresses(
    harbor: &Harbor,
    set: &NameserverSet,
    today: Date,
    changes: &mut ChangeSet,
) -> Result<Vec<String>, Error> {
    let mut said = Vec::new();
    let mut zones = Vec::new();
    for name in &set.nameservers {
        let Some(zone) = zone_of(harbor, name)? else { continue };
        if !set.addresses.contains_key(name) {
            let message = format!("{} lies in the zone {}, and has no address", name.bare(), zone.name);
            return Err(Error::refused("no-address", message).advice(format!("give it as {}=ADDRESS", name.bare())));
        }
        if zone.home == ZoneHome::Elsewhere {
            said.push(format!(
                "{} lies in the zone {}, which is kept elsewhere: enter its addresses there",
                name.bare(),
                zone.name
            ));
        } else if !zones.contains(&zone) {
            zones.push(zone);
        }
    }
    for zone in zones {
        let Some(kept) = pending::zone(harbor, &zone, changes).await? else { continue };
        let aligned = align_addresses(&kept, set, today).map_err(|error| {
            Error::refused("zone-refuses", format!("the zone {} cannot take the addresses: {error}", zone.name))
                .advice("change the zone file by hand first")
        })?;
        if let Some((change, words)) = aligned {
            changes.extend(vec![change]);
            said.extend(words);
        }
    }
    Ok(said)
}

/// The host objects that have to be registered, in words: names inside a domain that the set may be used for.
fn glue_words(set: &NameserverSet) -> Vec<String> {
    let lines = set.addresses.iter().filter_map(|(name, addresses)| {
        let domain = Hostname::parse(&name.bare()).ok().and_then(|name| registrable_domain(&name))?;
        let shown = addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
        Some(format!("at the registrar of {domain}, register the host {} with {shown}", name.bare()))
    });
    lines.collect()
}

/// Whom a set belongs to, refused if there is no such account.
fn owner(harbor: &Harbor, typed: Option<&str>) -> Result<Option<AccountName>, Error> {
    typed.map(|typed| crate::commands::account::show::find(harbor, typed).map(|account| account.name)).transpose()
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
