//! What `detach` and `account remove` share: one site's names, or one zone, decided on top of what was decided before.

use brightharbor_core::change::Plan;
use brightharbor_core::name::{Host, Hostname, names_of};
use brightharbor_core::site::{Site, SiteRefusal, detach, detach_alias};
use brightharbor_core::zone::{Zone, ZoneRefusal, forget_zone, remove_zone, serial_date};
use brightharbor_io::load;
use brightharbor_io::overlay::Overlay;
use jiff::Timestamp;

use crate::error::Error;

/// Takes names of one site away. Zones that will be `removed` are not edited before.
pub async fn detach_names(
    overlay: &mut Overlay<'_>,
    site: &Site,
    gone: &[Host],
    removed: &dyn Fn(&Zone) -> bool,
    now: Timestamp,
) -> Result<Plan, Error> {
    let loaded = load::detach(overlay, site, gone, removed).await?;
    let plan: Result<Plan, SiteRefusal> = detach(gone, &loaded, &overlay.settings, &overlay.layout, serial_date(now));
    let plan = plan?;
    overlay.take(&plan.set);
    Ok(plan)
}

/// Takes a whole zone away; one that somebody else keeps is only forgotten. `attached` are the names that were attached.
pub async fn take_zone(
    overlay: &mut Overlay<'_>,
    zone: &Zone,
    attached: &[Host],
    now: Timestamp,
) -> Result<Plan, Error> {
    let within = |name: &Hostname| name.dns_name().is_within(&zone.name.dns_name());
    let attached = names_of(attached).into_iter().filter(within).collect();
    let plan = match load::zone_removal(overlay, zone, attached).await? {
        None => forget_zone(zone),
        Some(removal) => remove_zone(&removal, &overlay.settings, &overlay.layout, serial_date(now))
            .map_err(|error| ZoneRefusal::Edit { zone: zone.name.clone(), error })?,
    };
    overlay.take(&plan.set);
    Ok(plan)
}

/// A zone that still holds names that are attached does not go.
pub fn refuse_if_needed(overlay: &Overlay<'_>, zone: &Zone, leaving: &[Host]) -> Result<(), Error> {
    let within = overlay.store.hostnames_within(&zone.name)?;
    match within.into_iter().map(Host::Name).find(|host| !leaving.contains(host)) {
        Some(by) => Err(SiteRefusal::ZoneInUse { zone: zone.name.clone(), by, owner: None }.into()),
        None => Ok(()),
    }
}

/// Takes back what was attached without a site: an alias record, or a zone alone, which goes only if zones do.
pub async fn detach_unserved(
    overlay: &mut Overlay<'_>,
    host: &Host,
    zones_go: bool,
    now: Timestamp,
) -> Result<Plan, Error> {
    let unknown = || SiteRefusal::NotAttached(host.clone());
    let name = host.name().ok_or_else(unknown)?;
    let zone = overlay.enclosing_zone(name)?.ok_or_else(unknown)?;
    if zone.name == *name {
        return match zones_go {
            true => Ok(Plan::new(format!("detach {name}"))),
            false => Err(SiteRefusal::OnlyZone(zone.name).into()),
        };
    }
    let kept = overlay.kept_zone(&zone).await?.ok_or_else(unknown)?;
    let plan: Option<Plan> = detach_alias(name, &kept, serial_date(now))?;
    let plan = plan.ok_or_else(unknown)?;
    overlay.take(&plan.set);
    Ok(plan)
}
