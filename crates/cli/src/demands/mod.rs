//! What sellers of certificates demand, as changes: put in place by `certificate prove`, looked at by `tend`, taken away
//! by both, by `certificate import` and with the site.

mod look;

use std::time::Duration;

use brightharbor_core::certificate::{Demand, DemandedProof, demanded_files, demanded_records, zone_in_step};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_core::zone::{AlterRequest, serial_date};
use brightharbor_core::zone::{Zone, ZoneHome};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::zones::read_zone;
use jiff::Timestamp;

use crate::commands::certificate::list::site_of;
use crate::error::Error;
use crate::look::surroundings;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::site_change::site_change;
pub use look::{Seen, handed_over, look};

/// The site with further demands, and what shows them.
pub async fn put_in_place(
    harbor: &Harbor,
    before: &Site,
    new: Vec<Demand>,
    options: &ChangeOptions,
    title: &str,
) -> Result<(Decision, Site), Error> {
    let mut set = ChangeSet::new(title);
    let after = before.demanding(new);
    records(harbor, before, &after, &mut set).await?;
    files(harbor, before, &after, &mut set)?;
    if after != *before {
        site_change(harbor, before, &after, options, &mut set)?;
    }
    Ok((Decision { set, said: vec![] }, after))
}

/// The site without the demands that are not `kept`.
pub async fn take_away(
    harbor: &Harbor,
    before: &Site,
    options: &ChangeOptions,
    kept: impl Fn(&Demand) -> bool,
    title: &str,
) -> Result<(Decision, Site), Error> {
    let mut set = ChangeSet::new(title);
    let after = before.demanding_only(kept);
    records(harbor, before, &after, &mut set).await?;
    if after != *before {
        site_change(harbor, before, &after, options, &mut set)?;
    }
    files(harbor, before, &after, &mut set)?;
    let mut said = Vec::new();
    for demand in before.demands_gone_in(&after) {
        said.push(demand.proof.farewell(before, is_elsewhere(harbor, &demand.proof)?));
    }
    Ok((Decision { set, said }, after))
}

/// Nobody is asked, and no file that somebody has changed by hand is written over.
const UNASKED: ChangeOptions = ChangeOptions { dry_run: false, yes: true };
const CAREFUL: ChangeOptions = ChangeOptions { dry_run: false, yes: false };

/// Takes away what the seller of a site's certificate has demanded, since it is there now.
pub async fn take_all_away(context: &Context, main: &Hostname) -> Result<Vec<String>, Error> {
    let title = format!("take away what was demanded for {main}");
    take_some_away(context, main, &title, |_, _| false).await
}

async fn take_some_away(
    context: &Context,
    main: &Hostname,
    title: &str,
    kept: impl Fn(&Demand, Timestamp) -> bool,
) -> Result<Vec<String>, Error> {
    let changed = change(context, title, &UNASKED, async |harbor, now| {
        let site = site_of(harbor, main)?;
        let (decision, _) = take_away(harbor, &site, &CAREFUL, |demand| kept(demand, now), title).await?;
        Ok(decision)
    })
    .await?;
    Ok(changed.said)
}

/// Takes away all demands whose day is over, and looks at the others. One site's trouble is told, and holds up no other.
pub async fn tend_demands(context: &Context) -> Result<(Vec<String>, Vec<(Hostname, Seen)>), Error> {
    let (mut said, mut seen) = (Vec::new(), Vec::new());
    for site in context.open()?.store.sites_with_demands()? {
        let title = format!("tend: end the demands for {}", site.main());
        match take_some_away(context, site.main(), &title, |demand, now| demand.until > now).await {
            Ok(taken) => said.extend(taken),
            Err(error) => {
                said.push(format!("{}: what a seller demanded is not kept in step: {}", site.main(), error.message))
            }
        }
        let harbor = context.open()?;
        let site = site_of(&harbor, site.main())?;
        let all = look(context, &harbor, &site, Some(Duration::ZERO)).await?;
        seen.extend(all.into_iter().map(|one| (site.main().clone(), one)));
    }
    Ok((said, seen))
}

/// Whether it is a record of a zone that this harbor cannot change.
fn is_elsewhere(harbor: &Harbor, proof: &DemandedProof) -> Result<bool, Error> {
    let DemandedProof::Record { owner, .. } = proof else { return Ok(false) };
    Ok(harbor.store.zone_holding(owner)?.is_none_or(|zone| zone.home == ZoneHome::Elsewhere))
}

/// Writes the files that are new, and takes away those that are over.
fn files(harbor: &Harbor, before: &Site, after: &Site, set: &mut ChangeSet) -> Result<(), Error> {
    for file in demanded_files(before, after, &harbor.layout) {
        let present = read_if_there(&file.path)?;
        set.extend(file.change(present).into_iter().collect());
    }
    Ok(())
}

/// Brings the zones in step: those of this harbor, and primaries that take our updates.
async fn records(harbor: &Harbor, before: &Site, after: &Site, set: &mut ChangeSet) -> Result<(), Error> {
    let mut by_zone: Vec<(Zone, Vec<AlterRequest>)> = Vec::new();
    for request in demanded_records(before, after) {
        let Some(zone) = harbor.store.zone_holding(&request.owner)? else { continue };
        match by_zone.iter_mut().find(|(other, _)| *other == zone) {
            Some((_, requests)) => requests.push(request),
            None => by_zone.push((zone, vec![request])),
        }
    }
    let today = serial_date(clock::now());
    for (zone, requests) in by_zone.into_iter().filter(|(zone, _)| zone.home != ZoneHome::Elsewhere) {
        let kept = read_zone(harbor, &zone).await?;
        let in_step = zone_in_step(&kept, &requests, &surroundings(harbor, &zone)?, today)?;
        set.extend(in_step.into_iter().collect());
    }
    Ok(())
}
