//! `zone remove`: a zone that no attached name needs any more; a copy of its file stays.

use brightharbor_core::change::Plan;
use brightharbor_core::zone::Zone;
use clap::Args;

use crate::commands::{Report, zone_name};
use crate::detaching::{refuse_if_needed, take_zone};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
use crate::show::ChangeReport;

/// Remove zones that hold no attached name. A copy of each file stays in the harbor's folder `removed`.
#[derive(Debug, Args)]
pub struct Remove {
    /// The zones, as in `zone list`.
    #[arg(required = true, value_name = "ZONE")]
    zones: Vec<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Remove, context: &Context) -> Report {
    let names = args.zones.iter().map(|typed| zone_name(typed)).collect::<Result<Vec<_>, _>>()?;
    let title = format!("zone remove {}", args.zones.join(" "));
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let mut plan = Plan::new(&title);
        for name in &names {
            let zone: Zone = overlay.zone(name)?.ok_or_else(|| {
                Error::refused("no-zone", format!("zone {name} not found in this harbor"))
                    .advice("see `brightharbor zone list`")
                    .with("zone", name.as_str())
            })?;
            refuse_if_needed(overlay, &zone, &[])?;
            plan.extend(take_zone(overlay, &zone, &[], now).await?);
        }
        Ok((plan, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "zone remove", carried }))
}
