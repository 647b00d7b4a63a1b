//! A listing, carried out: each of its steps is decided as its own command decides it, on top of those before, and all are one
//! change.

use brightharbor_core::account::{AccountRefusal, add_account, add_plan, change_account, change_plan};
use brightharbor_core::change::{Plan, Remark};
use brightharbor_core::listing::{Compared, Counts, Listing, Step, add_listed, compare, records_by_zone};
use brightharbor_core::name::Host;
use brightharbor_core::nameserver::{add_set, change_set};
use brightharbor_core::redirect::remove_redirects;
use brightharbor_core::site::{Attachment, SiteRefusal, attach, decide_change, hand_over, refuse_beyond_plan};
use brightharbor_core::zone::serial_date;
use brightharbor_io::load;
use brightharbor_io::overlay::Overlay;
use jiff::Timestamp;

use crate::detaching::detach_names;
use crate::error::Error;
use crate::redirecting;

/// What was decided, and how many of each table come, change, stay and go.
pub struct Loading {
    pub plan: Plan,
    pub compared: Compared,
    pub records: Counts,
}

pub async fn decide(
    overlay: &mut Overlay<'_>,
    listing: &Listing,
    title: &str,
    now: Timestamp,
) -> Result<Loading, Error> {
    let compared = compare(listing, &load::present(overlay, listing.names().as_ref())?).map_err(Error::wrong_use)?;
    let mut plan = Plan::new(title);
    // The web server is asked about all names side by side.
    let attaching: Vec<_> = compared.attaching().into_values().flatten().collect();
    load::ask_ahead(overlay, &attaching).await?;
    let mut decided = Vec::with_capacity(compared.steps.len());
    let mut are_checked = false;
    for step in &compared.steps {
        if matches!(step, Step::Attach(_)) && !std::mem::replace(&mut are_checked, true) {
            // By now the accounts are as they will be.
            for (account, requests) in compared.attaching() {
                refuse_beyond_plan(&requests, overlay.limit(account)?.as_ref())?;
            }
        }
        let one = decide_step(overlay, step, now).await?;
        overlay.take(&one.set);
        decided.push(one);
    }
    let records = records(overlay, listing, &mut decided, now).await?;
    plan.extend_all(decided);
    plan.remarks.retain(|remark| *remark != Remark::Unchanged);
    if plan.is_empty() {
        plan.remark(Remark::Unchanged);
    }
    Ok(Loading { plan, compared, records })
}

async fn decide_step(overlay: &mut Overlay<'_>, step: &Step, now: Timestamp) -> Result<Plan, Error> {
    Ok(match step {
        Step::Plan { name, is_new: true, limits } => add_plan(name, overlay.plan(name)?.as_ref(), None, limits)?,
        Step::Plan { name, is_new: false, limits } => change_plan(name, overlay.plan(name)?.as_ref(), limits)?,
        Step::AddAccount(request) => {
            let loaded = load::add_account(overlay, request)?;
            add_account(request, &loaded, &overlay.settings)?
        }
        Step::ChangeAccount(name, request) => {
            let account = overlay.account(name)?.ok_or_else(|| AccountRefusal::Unknown(name.clone()))?;
            let loaded = load::change_account(overlay, account, request)?;
            change_account(request, &loaded, &overlay.settings, &overlay.layout)?
        }
        Step::AddSet(request) => {
            let known = load::known_set(overlay, request.name.as_str())?;
            let is_there = match &request.account {
                Some(account) => overlay.account(account)?.is_some(),
                None => false,
            };
            let zones = load::member_zones(overlay, request.members.iter().map(|member| &member.name)).await?;
            add_set(request, &known, is_there, &zones, now)?
        }
        Step::ChangeSet(request) => change_set(request, &load::change_set(overlay, request).await?, now)?,
        Step::HandOver { site, to } => {
            let loaded = load::hand_over(overlay, find(overlay, site)?, to)?;
            hand_over(&loaded, None, &overlay.settings, &overlay.layout)?
        }
        Step::Attach(request) => {
            let loaded = load::attach(overlay, request).await?;
            let decided: Result<Attachment, SiteRefusal> =
                attach(request, &loaded, &overlay.settings, &overlay.layout, now);
            decided?.plan
        }
        Step::ChangeSite(name, request) => {
            let loaded = load::change_site(overlay, find(overlay, name)?, request).await?;
            decide_change(request, &loaded, &overlay.settings, &overlay.layout, serial_date(now))?
        }
        Step::Detach { site, names } => {
            let site = find(overlay, site)?;
            return detach_names(overlay, &site, names, &|_| false, now).await;
        }
        Step::RemoveRedirect(source) => {
            let site = load::site_of_source(overlay, source)?;
            remove_redirects(source, true, site.as_ref(), &overlay.settings, &overlay.layout)?
        }
        Step::AddRedirect(request) => redirecting::decide(overlay, request, now)?,
    })
}

fn find(overlay: &Overlay<'_>, name: &Host) -> Result<brightharbor_core::site::Site, Error> {
    Ok(overlay.site_of(name)?.ok_or_else(|| SiteRefusal::NotAttached(name.clone()))?)
}

/// Adds the records that are not there, a zone at a time.
async fn records(
    overlay: &mut Overlay<'_>,
    listing: &Listing,
    decided: &mut Vec<Plan>,
    now: Timestamp,
) -> Result<Counts, Error> {
    let mut all = Counts::default();
    for (name, wanted) in records_by_zone(listing).map_err(Error::wrong_use)? {
        let zone = overlay.zone(&name)?.ok_or_else(|| {
            Error::refused("no-zone", format!("zone {name} not found in this harbor"))
                .advice("attach its domain in the same file, or create the zone first: brightharbor zone create")
                .with("zone", name.as_str())
        })?;
        let (kept, around) = (overlay.read_zone(&zone).await?, load::surroundings(overlay, &zone)?);
        let (plan, counts) = add_listed(&kept, &wanted, &around, now)?;
        all.added += counts.added;
        all.same += counts.same;
        overlay.take(&plan.set);
        decided.push(plan);
    }
    Ok(all)
}
