//! What sellers of certificates demand, as changes: put in place by `certificate prove`, looked at by `tend`, taken away by
//! both and by `certificate import`.

use std::time::Duration;

use brightharbor_core::certificate::{CertificateRemark, Demand, change_demands};
use brightharbor_core::change::{Plan, Remark};
use brightharbor_core::name::Host;
use brightharbor_core::site::{Site, SiteRefusal};
use brightharbor_io::door;
use brightharbor_io::load::{self, LoadError};
use brightharbor_io::overlay::Overlay;
use brightharbor_io::secure::{Demanded, GoOn, WorkDoor, WorkError, look_at_demands};
use jiff::Timestamp;

use crate::error::{Error, work_words};
use crate::run::Context;

/// The plan that gives a site other demands.
pub async fn with_demands(
    overlay: &Overlay<'_>,
    before: Site,
    after: &Site,
    title: &str,
    now: Timestamp,
) -> Result<Plan, WorkError> {
    let loaded = load::demands(overlay, before, after).await?;
    Ok(change_demands(after, &loaded, &overlay.settings, &overlay.layout, title, now)?)
}

/// Takes away what the seller of a site's certificate has demanded, since it is there now. Gives what to report of it.
pub async fn take_all_away(context: &Context, main: &Host) -> Result<Vec<Remark>, Error> {
    let title = format!("take away what was demanded for {main}");
    let taken = context.work(async |door| Ok(take_away(door, main, &title, |_, _| false).await)).await?;
    Ok(taken.unwrap_or_else(|error| vec![stays(main, &error)]))
}

fn stays(site: &Host, error: &WorkError) -> Remark {
    CertificateRemark::DemandStays { site: site.clone(), reason: work_words(error) }.into()
}

/// No file that somebody has edited by hand is written over.
async fn take_away(
    door: &WorkDoor<'_>,
    main: &Host,
    title: &str,
    kept: impl Fn(&Demand, Timestamp) -> bool,
) -> Result<Vec<Remark>, WorkError> {
    let (changed, ()) = door::change(door, title, &GoOn, async |overlay, now| {
        let site = overlay.site_of(main)?.ok_or_else(|| LoadError::NotAttached(main.clone()))?;
        let after = site.demanding_only(|demand| kept(demand, now));
        Ok((with_demands(overlay, site, &after, title, now).await?, ()))
    })
    .await?;
    Ok(changed.plan.remarks)
}

/// Takes away all demands whose day is over, and looks at the others. One site's trouble is reported, and holds up no other.
pub async fn tend_demands(context: &Context) -> Result<(Vec<Remark>, Vec<(Host, Demanded)>), Error> {
    let (mut remarks, mut seen) = (Vec::new(), Vec::new());
    for site in context.open()?.store.sites_with_demands()? {
        let main = site.main();
        let title = format!("tend: end the demands for {main}");
        let taken = context
            .work(async |door| Ok(take_away(door, main, &title, |demand, now| demand.until > now).await))
            .await?;
        match taken {
            Ok(taken) => remarks.extend(taken),
            Err(error) => remarks.push(stays(main, &error)),
        }
        let harbor = context.open()?;
        let site = harbor.store.site_of(main)?.ok_or_else(|| SiteRefusal::NotAttached(main.clone()))?;
        let all = context.work(async |door| look_at_demands(door, &harbor, &site, Some(Duration::ZERO)).await).await?;
        seen.extend(all.into_iter().map(|one| (main.clone(), one)));
    }
    Ok((remarks, seen))
}
