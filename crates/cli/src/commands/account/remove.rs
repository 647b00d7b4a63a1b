//! `account remove`: an account goes, with its sites and zones if that is said; nothing in a home is deleted.

use brightharbor_core::account::{Account, AccountRefusal, RemoveAccount, remove_account};
use brightharbor_core::change::Plan;
use brightharbor_core::name::Host;
use brightharbor_core::site::SiteRefusal;
use brightharbor_core::zone::Zone;
use brightharbor_io::load;
use brightharbor_io::overlay::Overlay;
use clap::{Args, ValueEnum};
use jiff::Timestamp;

use crate::commands::{Report, account_name};
use crate::detaching::{detach_names, take_zone};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::ChangeReport;

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
    let request = RemoveAccount {
        name: account_name(&args.name)?,
        detach: args.sites == Some(SitesArgument::Detach),
        zones_to: args.zones_to.as_deref().map(account_name).transpose()?,
    };
    let title = format!("account remove {}", request.name);
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        Ok((decide(overlay, &request, &title, now).await?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "account remove", carried }))
}

/// The account itself, then its sites, then its zones: each on top of what was decided before.
async fn decide(
    overlay: &mut Overlay<'_>,
    request: &RemoveAccount,
    title: &str,
    now: Timestamp,
) -> Result<Plan, Error> {
    let unknown = || AccountRefusal::Unknown(request.name.clone());
    let account = load::find_account(overlay, &request.name)?.ok_or_else(unknown)?;
    let loaded = load::remove_account(overlay, account.clone(), request)?;
    let of_account = remove_account(request, &loaded)?;
    let sites = overlay.store.sites(Some(&account.name))?;
    let attached: Vec<Host> = sites.iter().flat_map(|site| site.hostnames.clone()).collect();
    let zones_go = request.zones_to.is_none();
    let removed = |zone: &Zone| zones_go && zone.account == account.name;
    let mut plan = Plan::new(title);
    for site in &sites {
        let gone = std::slice::from_ref(site.main());
        plan.extend(detach_names(overlay, site, gone, &removed, now).await?);
    }
    for zone in loaded.zones.iter().filter(|_| zones_go) {
        refuse_foreign_names(overlay, zone, &account)?;
        plan.extend(take_zone(overlay, zone, &attached, now).await?);
    }
    // What becomes of the account itself comes last in the inventory, and first in words.
    let remarks = std::mem::take(&mut plan.remarks);
    plan.extend(of_account);
    plan.remarks.extend(remarks);
    Ok(plan)
}

/// Names of other accounts below a domain of this one would lose their zone.
fn refuse_foreign_names(overlay: &Overlay<'_>, zone: &Zone, account: &Account) -> Result<(), Error> {
    for by in overlay.store.hostnames_within(&zone.name)? {
        let by = Host::Name(by);
        let owner = overlay.site_of(&by)?.map(|site| site.account);
        if let Some(owner) = owner.filter(|owner| *owner != account.name) {
            return Err(SiteRefusal::ZoneInUse { zone: zone.name.clone(), by, owner: Some(owner) }.into());
        }
    }
    Ok(())
}
