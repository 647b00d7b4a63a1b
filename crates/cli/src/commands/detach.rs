//! `detach`: undoes an attach. Files in homes are never deleted.

use brightharbor_core::change::Plan;
use brightharbor_core::name::{Host, names_of};
use brightharbor_core::zone::Zone;
use brightharbor_io::load;
use clap::{Args, ValueEnum};

use crate::commands::{Report, host};
use crate::detaching::{detach_names, detach_unserved, refuse_if_needed, take_zone};
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::ChangeReport;

/// Detach hostnames. With the main name of a site, the whole site; files in homes are never deleted.
#[derive(Debug, Args)]
pub struct Detach {
    /// The hostnames. The main name of a site takes its other names along.
    #[arg(required = true)]
    hostnames: Vec<String>,
    /// What becomes of the zone of a domain that is detached.
    #[arg(long, value_enum, default_value = "keep")]
    zone: FateArgument,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum FateArgument {
    /// Keep it, without the addresses that led here.
    Keep,
    /// Remove it, file and all.
    Remove,
}

pub fn run(args: &Detach, context: &Context) -> Report {
    let names: Vec<Host> = args.hostnames.iter().map(|typed| host(typed)).collect::<Result<_, _>>()?;
    let zones_go = args.zone == FateArgument::Remove;
    let title = format!("detach {}", names.iter().map(Host::as_str).collect::<Vec<_>>().join(" "));
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let mut plan = Plan::new(&title);
        let (mut attached, mut leaving) = (Vec::new(), Vec::new());
        for name in &names {
            match overlay.site_of(name)? {
                Some(_) => attached.push(name.clone()),
                None => plan.extend(detach_unserved(overlay, name, zones_go, now).await?),
            }
        }
        let going = load::leaving(overlay, &attached)?;
        leaving.extend(going.names());
        leaving.extend(names.iter().filter(|name| !attached.contains(name)).cloned());
        let removed = |zone: &Zone| zones_go && leaving.iter().any(|host| *host == zone.name);
        for (site, gone) in &going.0 {
            plan.extend(detach_names(overlay, site, gone, &removed, now).await?);
        }
        let mut zones: Vec<Zone> = Vec::new();
        for name in names_of(&leaving) {
            zones.extend(overlay.zone(&name)?.filter(|zone| removed(zone)));
        }
        for zone in &zones {
            refuse_if_needed(overlay, zone, &leaving)?;
            plan.extend(take_zone(overlay, zone, &leaving, now).await?);
        }
        Ok((plan, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "detach", carried }))
}
