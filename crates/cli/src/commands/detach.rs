//! `detach`: undoes an attach. Files in homes are never deleted.

use std::collections::BTreeMap;

use brightharbor_core::change::ChangeSet;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::{
    DetachLoaded, KeptZone, Site, ZoneFate, ZoneHome, ZoneRemovalFiles, detach, remove_zone,
};
use brightharbor_core::zone::EditError;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::zones::read_zone;
use clap::{Args, ValueEnum};

use crate::commands::{Report, hostname};
use crate::error::Error;
use crate::options::ChangeOptions;
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
    let names: Vec<Hostname> = args.hostnames.iter().map(|typed| hostname(typed)).collect::<Result<_, _>>()?;
    let fate = if args.zone == FateArgument::Remove { ZoneFate::Removed } else { ZoneFate::Kept };
    let title = format!("detach {}", names.iter().map(Hostname::as_str).collect::<Vec<_>>().join(" "));
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let today = now.to_zoned(jiff::tz::TimeZone::UTC).date();
        let mut set = ChangeSet::new(&title);
        let mut said = Vec::new();
        let mut of_site: BTreeMap<Hostname, (Site, Vec<Hostname>)> = BTreeMap::new();
        for name in &names {
            let site = harbor.store.site_of(name)?.ok_or_else(|| {
                Error::refused("not-attached", format!("{name} is not attached")).advice("see `brightharbor site list`")
            })?;
            of_site.entry(site.main().clone()).or_insert_with(|| (site, vec![])).1.push(name.clone());
        }
        for (site, gone) in of_site.into_values() {
            let whole = gone.contains(site.main());
            let of_names = if whole { site.hostnames.clone() } else { gone.clone() };
            let mut zones = zones_of(harbor, &of_names).await?;
            let removed: Vec<KeptZone> = match fate {
                ZoneFate::Removed => zones.extract_if(.., |kept| of_names.contains(&kept.zone.name)).collect(),
                ZoneFate::Kept => vec![],
            };
            let site_file = own_file(harbor, &site, args.options.yes || args.options.dry_run)?;
            let loaded = DetachLoaded { site, site_file, zones };
            let made = detach(&gone, &loaded, &harbor.settings, &harbor.layout, today, &mut set).map_err(refused)?;
            said.extend(made);
            for kept in removed {
                let files = removal_files(harbor, &set, &kept.zone.name)?;
                let made = remove_zone(&kept, &files, &harbor.settings, &harbor.layout, today, &mut set);
                said.extend(made.map_err(refused)?);
            }
        }
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "detach", changed }))
}

/// The zones that hold the names and can be changed from here, each once.
async fn zones_of(harbor: &Harbor, names: &[Hostname]) -> Result<Vec<KeptZone>, Error> {
    let mut zones: Vec<KeptZone> = Vec::new();
    for name in names {
        let Some(zone) = harbor.store.enclosing_zone(name)?.filter(|zone| zone.home != ZoneHome::Elsewhere) else {
            continue;
        };
        if !zones.iter().any(|kept| kept.zone.name == zone.name) {
            zones.push(read_zone(harbor, &zone).await?);
        }
    }
    Ok(zones)
}

/// The files around a zone, as they are after what the set does already.
fn removal_files(harbor: &Harbor, set: &ChangeSet, zone: &Hostname) -> Result<ZoneRemovalFiles, Error> {
    let Harbor { layout, settings, .. } = harbor;
    let content = |path: std::path::PathBuf| match set.pending(&path) {
        Some(content) => Ok(Some(content.to_vec())),
        None => read_if_there(&path),
    };
    let catalog = settings.dns.catalog.as_ref().map(|catalog| content(layout.zone_file(catalog))).transpose()?;
    Ok(ZoneRemovalFiles {
        zone_list: content(layout.zone_list_of(settings.dns.server, zone))?,
        catalog: catalog.flatten(),
    })
}

fn refused(error: EditError) -> Error {
    Error::refused("zone-refuses", format!("the zone cannot lose the addresses: {error}"))
        .advice("change the zone file by hand first, or remove the zone with --zone remove")
}
