//! A listing, carried out: each of its steps is decided as its own command decides it, on top of those before, and all are one
//! change.

use brightharbor_core::account::{AccountRefusal, add_account, add_plan, change_account, change_plan};
use brightharbor_core::change::{Plan, Remark};
use brightharbor_core::listing::{Compared, Counts, ListedRecord, Listing, Step, compare};
use brightharbor_core::name::Host;
use brightharbor_core::redirect::remove_redirects;
use brightharbor_core::site::{Attachment, SiteRefusal, attach, decide_change, hand_over, refuse_beyond_plan};
use brightharbor_core::zone::{
    AlterRequest, Alteration, RecordType, ZoneRefusal, alter_kept, data_as_meant, owner_as_meant, serial_date,
};
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
    let compared = compare(listing, &load::present(overlay)?).map_err(Error::wrong_use)?;
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

/// Adds the records that are not there.
async fn records(
    overlay: &mut Overlay<'_>,
    listing: &Listing,
    decided: &mut Vec<Plan>,
    now: Timestamp,
) -> Result<Counts, Error> {
    let mut counts = Counts::default();
    for (at, record) in listing.records.iter().enumerate() {
        let wrong = |error: String| Error::wrong_use(format!("records, the {}. one: {error}", at + 1));
        let zone = overlay.zone(&record.zone)?.ok_or_else(|| {
            Error::refused("no-zone", format!("zone {} not found in this harbor", record.zone))
                .advice("attach its domain in the same file, or create the zone first: brightharbor zone create")
                .with("zone", record.zone.as_str())
        })?;
        let request = meant(record).map_err(wrong)?;
        let kept = overlay.read_zone(&zone).await?;
        let Alteration::Add { data, .. } = &request.alteration else { continue };
        let is_there = kept.document.records().any(|one| one.owner == request.owner && data.contains(&one.data));
        if is_there {
            counts.same += 1;
            continue;
        }
        counts.added += 1;
        let around = load::surroundings(overlay, &zone)?;
        let altered: Result<_, ZoneRefusal> = alter_kept(&kept, &request, &around, None, "load", now);
        let (mut one, _) = altered?;
        if one.remarks.is_empty() {
            one.remark(Remark::Taken(format!(
                "record {} {} {}",
                request.owner.bare(),
                record.record_type,
                record.data
            )));
        }
        overlay.take(&one.set);
        decided.push(one);
    }
    Ok(counts)
}

fn meant(record: &ListedRecord) -> Result<AlterRequest, String> {
    let zone = record.zone.dns_name();
    let record_type = RecordType::parse(&record.record_type).filter(|kind| !kind.is_meta());
    let record_type = record_type.ok_or_else(|| format!("`{}` is not a record type", record.record_type))?;
    let owner = owner_as_meant(&record.owner, &zone).map_err(|error| error.to_string())?;
    let data = data_as_meant(&record.data, record_type, &zone).map_err(|error| error.to_string())?;
    let alteration = Alteration::Add { ttl: record.ttl, data: vec![data.value] };
    Ok(AlterRequest { owner: owner.value, record_type, alteration })
}
