//! `detach`: undoes an attach. Files in homes are never deleted.

use std::collections::BTreeMap;

use brightharbor_core::certificate::DemandedProof;
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::{DetachLoaded, Site, ZoneFate, detach, leaving};
use brightharbor_core::zone::{EditError, serial_date};
use brightharbor_core::zone::{KeptZone, Zone, ZoneHome, ZoneRemovalFiles, remove_zone};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use clap::{Args, ValueEnum};
use jiff::civil::Date;

use crate::commands::{Report, host};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::pending::{self, content};
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;
use crate::site_change::own_file;

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
    /// It stays, without the addresses that led here.
    Keep,
    /// It goes, file and all.
    Remove,
}

pub fn run(args: &Detach, context: &Context) -> Report {
    let names: Vec<Hostname> = args.hostnames.iter().map(|typed| host(typed)).collect::<Result<_, _>>()?;
    let fate = if args.zone == FateArgument::Remove { ZoneFate::Removed } else { ZoneFate::Kept };
    let title = format!("detach {}", names.iter().map(Hostname::as_str).collect::<Vec<_>>().join(" "));
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let today = serial_date(now);
        let mut set = ChangeSet::new(&title);
        let mut said = Vec::new();
        let mut of_site: BTreeMap<Hostname, (Site, Vec<Hostname>)> = BTreeMap::new();
        for name in &names {
            let site = harbor.store.site_of(name)?.ok_or_else(|| {
                Error::refused("not-attached", format!("{name} is not attached")).advice("see `brightharbor site list`")
            })?;
            of_site.entry(site.main().clone()).or_insert_with(|| (site, vec![])).1.push(name.clone());
        }
        let leaving: Vec<Hostname> = of_site.values().flat_map(|(site, gone)| leaving(gone, site)).collect();
        let removed = |zone: &Zone| fate == ZoneFate::Removed && leaving.contains(&zone.name);
        for (site, gone) in of_site.values() {
            let anyway = args.options.yes || args.options.dry_run;
            said.extend(detach_names(harbor, site, gone, &removed, anyway, today, &mut set).await?);
        }
        let mut zones: Vec<Zone> = Vec::new();
        for name in &leaving {
            zones.extend(harbor.store.zone(name)?.filter(|zone| removed(zone)));
        }
        for zone in &zones {
            refuse_if_needed(harbor, zone, &leaving)?;
            said.extend(remove_whole_zone(harbor, zone, today, &mut set).await?);
        }
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "detach", changed }))
}

/// Takes names of one site away, on top of the set. Zones that will be `removed` are not edited before.
pub async fn detach_names(
    harbor: &Harbor,
    site: &Site,
    gone: &[Hostname],
    removed: &impl Fn(&Zone) -> bool,
    anyway: bool,
    today: Date,
    set: &mut ChangeSet,
) -> Result<Vec<String>, Error> {
    let mut holding: Vec<Zone> = Vec::new();
    for name in leaving(gone, site) {
        holding.extend(harbor.store.enclosing_zone(&name)?);
    }
    let mut demanded_elsewhere = Vec::new();
    let demands = site.rules.demands.iter().filter(|_| gone.contains(site.main()));
    for proof in demands.map(|demand| &demand.proof) {
        let DemandedProof::Record { owner, .. } = proof else { continue };
        match harbor.store.zone_holding(owner)? {
            Some(zone) if zone.home != ZoneHome::Elsewhere => holding.push(zone),
            _ => demanded_elsewhere.push(proof.clone()),
        }
    }
    let mut zones: Vec<KeptZone> = Vec::new();
    for zone in holding.iter().filter(|zone| !removed(zone)) {
        if !zones.iter().any(|kept| kept.zone.name == zone.name) {
            zones.extend(pending::zone(harbor, zone, set).await?);
        }
    }
    let site_file = own_file(harbor, site, anyway)?;
    let mut demanded = Vec::new();
    for (_, _, name) in site.demanded_files() {
        let path = harbor.layout.proofs().join(name);
        demanded.extend(read_if_there(&path)?.map(|content| (path, content)));
    }
    let loaded = DetachLoaded { site: site.clone(), site_file, demanded, demanded_elsewhere, zones };
    detach(gone, &loaded, &harbor.settings, &harbor.layout, today, set).map_err(refused)
}

/// A zone that still holds names that are attached does not go.
fn refuse_if_needed(harbor: &Harbor, zone: &Zone, leaving: &[Hostname]) -> Result<(), Error> {
    let within = harbor.store.hostnames_within(&zone.name)?;
    let Some(left) = within.iter().find(|name| !leaving.contains(name)) else { return Ok(()) };
    let message = format!("the zone {} cannot go: {left} is still attached and lies in it", zone.name);
    Err(Error::refused("zone-in-use", message)
        .advice("detach that one too in the same call, or keep the zone: leave --zone remove out"))
}

/// Takes a zone away with everything around it; one that somebody else keeps is only forgotten.
pub async fn remove_whole_zone(
    harbor: &Harbor,
    zone: &Zone,
    today: Date,
    set: &mut ChangeSet,
) -> Result<Vec<String>, Error> {
    if zone.home == ZoneHome::Elsewhere {
        set.inventory(InventoryChange::RemoveZone(zone.clone()));
        return Ok(vec![format!("the zone {} stays where it is kept; it is not known here any more", zone.name)]);
    }
    let Harbor { layout, settings, .. } = harbor;
    let Some(kept) = pending::zone(harbor, zone, set).await? else { return Ok(vec![]) };
    let catalog = settings.dns.catalog.as_ref().map(|catalog| content(set, &layout.zone_file(catalog))).transpose()?;
    let files = ZoneRemovalFiles {
        zone_list: content(set, &layout.zone_list_of(settings.dns.server, &zone.name))?,
        catalog: catalog.flatten(),
    };
    remove_zone(&kept, &files, settings, layout, today, set).map_err(refused)
}

fn refused(error: EditError) -> Error {
    Error::refused("zone-refuses", format!("the zone cannot lose the addresses: {error}"))
        .advice("change the zone file by hand first, or remove the zone with --zone remove")
}
