//! `account remove`: an account goes, with its sites and zones if that is said; nothing in a home is deleted.

use brightharbor_core::account::Account;
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::site::Site;
use brightharbor_core::zone::Zone;
use brightharbor_core::zone::serial_date;
use brightharbor_io::harbor::Harbor;
use clap::{Args, ValueEnum};

use super::show::find;
use crate::commands::Report;
use crate::commands::detach::{detach_names, remove_whole_zone};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::{ChangeReport, counted};

/// Remove an account. Files in its home are never deleted.
#[derive(Debug, Args)]
pub struct Remove {
    /// The account.
    name: String,
    /// What becomes of its sites.
    #[arg(long, value_enum)]
    sites: Option<SitesArgument>,
    /// Who gets its zones; without it they go with the sites.
    #[arg(long, value_name = "ACCOUNT", requires = "sites")]
    zones_to: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum SitesArgument {
    /// All of them are detached.
    Detach,
}

pub fn run(args: &Remove, context: &Context) -> Report {
    let title = format!("account remove {}", args.name);
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let today = serial_date(now);
        let account = find(harbor, &args.name)?;
        let sold = harbor.store.sold_by(&account.name)?;
        if let Some(other) = sold.first() {
            let message = format!("the account {} is the reseller of {}", account.name, counted(sold.len(), "account"));
            return Err(Error::refused("account-in-use", message).advice(format!(
                "give them another first: brightharbor account change {} --reseller ACCOUNT (or none)",
                other.name
            )));
        }
        let sites = harbor.store.sites(Some(&account.name))?;
        let mut zones = harbor.store.zones()?;
        zones.retain(|zone| zone.account == account.name);
        if args.sites.is_none() && !(sites.is_empty() && zones.is_empty()) {
            return Err(in_use(&account, &sites, &zones));
        }
        let heir = args.zones_to.as_deref().map(|typed| find(harbor, typed)).transpose()?;
        if heir.as_ref().is_some_and(|heir| heir.name == account.name) {
            return Err(Error::wrong_use("its zones cannot be left to the account that goes"));
        }
        let mut set = ChangeSet::new(&title);
        let mut said = Vec::new();
        let removed = |zone: &Zone| zone.account == account.name && heir.is_none();
        let anyway = args.options.yes || args.options.dry_run;
        for site in &sites {
            let gone = std::slice::from_ref(site.main());
            said.extend(detach_names(harbor, site, gone, &removed, anyway, today, &mut set).await?);
        }
        for zone in zones {
            if let Some(heir) = &heir {
                said.push(format!("the zone {} belongs to {} now", zone.name, heir.name));
                let after = Zone { account: heir.name.clone(), ..zone.clone() };
                set.inventory(InventoryChange::ReplaceZone { before: zone, after });
                continue;
            }
            refuse_foreign_names(harbor, &zone, &account)?;
            said.extend(remove_whole_zone(harbor, &zone, today, &mut set).await?);
        }
        said.insert(0, format!("the account {} is removed", account.name));
        said.push(format!("its home {} stays as it is", account.home.display()));
        set.inventory(InventoryChange::RemoveAccount(account));
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "account remove", changed }))
}

fn in_use(account: &Account, sites: &[Site], zones: &[Zone]) -> Error {
    let (sites, zones) = (counted(sites.len(), "site"), counted(zones.len(), "zone"));
    Error::refused("account-in-use", format!("the account {} has {sites} and {zones}", account.name)).advice(format!(
        "say what happens to them: brightharbor account remove {} --sites detach, which takes the zones along, or \
         with --zones-to ACCOUNT gives them to another; --dry-run shows it first",
        account.name
    ))
}

/// Names of other accounts below a domain of this one would lose their zone.
fn refuse_foreign_names(harbor: &Harbor, zone: &Zone, account: &Account) -> Result<(), Error> {
    for name in harbor.store.hostnames_within(&zone.name)? {
        let owner = harbor.store.site_of(&name)?.map(|site| site.account);
        if let Some(owner) = owner.filter(|owner| *owner != account.name) {
            let message = format!("the zone {} cannot go: {name} of the account {owner} lies in it", zone.name);
            return Err(Error::refused("zone-in-use", message)
                .advice(format!("give the zones to that account: --zones-to {owner}")));
        }
    }
    Ok(())
}
