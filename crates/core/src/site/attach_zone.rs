//! The zone part of attaching: a new zone for a new domain, or addresses in the zone that there is.

use jiff::Timestamp;
use jiff::civil::Date;

use super::SiteRefusal;
use super::attach::{AttachLoaded, AttachRequest, Attachment, ZoneChoice, ZoneLoaded, wanted_names};
use crate::change::{InventoryChange, Plan};
use crate::harbor::{Layout, Settings};
use crate::name::{Host, Hostname};
use crate::zone::{
    KeptZone, NewZone, Record, RecordData, RecordType, Zone, ZoneDesign, ZoneHome, ZoneRemark, new_zone, serial_date,
};

/// What becomes of the zone of the names.
pub(super) fn decide_zone(
    request: &AttachRequest,
    domain: &Hostname,
    loaded: &AttachLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
    decision: &mut Attachment,
) -> Result<(), SiteRefusal> {
    let today = serial_date(now);
    let is_domain = wanted_names(&request.hostname, request.www)[0] == *domain;
    match &loaded.zone {
        Some(ZoneLoaded::Kept(kept)) => {
            let new = matches!(request.zone, ZoneChoice::Remote(_)) && kept.zone.name == *domain;
            if new && is_domain {
                let (records, serial) = (kept.document.records().count(), kept.document.soa().serial);
                decision.plan.remark(ZoneRemark::OnPrimary { zone: domain.clone(), records, serial });
                decision.plan.set.inventory(InventoryChange::AddZone(kept.zone.clone()));
            }
            let wanted = wanted_names(&request.hostname, request.www);
            add_addresses(kept, (&wanted, wanted[0].name()), settings, today, &mut decision.plan)
        }
        Some(ZoneLoaded::Elsewhere(_)) => Ok(()),
        None if is_domain && request.zone == ZoneChoice::Here => {
            let of_account = loaded.account.as_ref().and_then(|account| account.nameserver_set.clone());
            let nameserver_set = request.design.nameserver_set.clone().or(of_account);
            let design = ZoneDesign { nameserver_set, ..request.design.clone() };
            let wanted = NewZone { domain, account: &request.account, design: &design, content: None, today };
            let made = new_zone(&wanted, &loaded.new_zone, settings, layout)?;
            decision.plan.set.extend(made.changes);
            let (zone, serial) = (domain.clone(), made.document.soa().serial);
            decision.plan.remark(ZoneRemark::New { zone: zone.clone(), serial });
            let carried = made.carried.map(|carried| ZoneRemark::CarriedOver { zone, carried }.into());
            decision.plan.remarks.extend(carried);
            Ok(())
        }
        None if is_domain => {
            let zone = Zone::new(domain.clone(), request.account.clone(), ZoneHome::Elsewhere);
            decision.plan.set.inventory(InventoryChange::AddZone(zone));
            Ok(())
        }
        None => {
            decision.plan.remark(ZoneRemark::KeptElsewhere { zone: domain.clone() });
            Ok(())
        }
    }
}

/// Adds to the plan the addresses of this host for names that have none, where their zone can be changed from here.
/// One that is an alias of the `main` name needs none.
pub(super) fn add_addresses(
    kept: &KeptZone,
    (wanted, main): (&[Host], Option<&Hostname>),
    settings: &Settings,
    today: Date,
    plan: &mut Plan,
) -> Result<(), SiteRefusal> {
    let KeptZone { zone, document, .. } = kept;
    let ttl = crate::zone::default_ttl(document);
    let mut records = Vec::new();
    for hostname in wanted.iter().filter_map(Host::name) {
        let owner = hostname.dns_name();
        // A record below a cut is seen by nobody.
        if let Some(cut) = document.cut_above(&owner).and_then(|cut| Hostname::parse_zone(&cut.bare()).ok()) {
            plan.remark(ZoneRemark::KeptElsewhere { zone: cut });
            continue;
        }
        let present: Vec<&Record> = document.records().filter(|record| record.owner == owner).collect();
        let has_addresses = present.iter().any(|record| record.data.address().is_some());
        if has_addresses || leads_to_domain(&present, main) {
            let (zone, hostname) = (zone.name.clone(), hostname.clone());
            plan.remark(ZoneRemark::AddressesKept { zone, hostname });
            continue;
        }
        records.extend(settings.host.addresses.iter().map(|address| Record {
            owner: owner.clone(),
            ttl,
            data: RecordData::of_address(*address),
        }));
    }
    if records.is_empty() {
        return Ok(());
    }
    let edited = document
        .with_records(&records, today)
        .map_err(|error| SiteRefusal::ZoneRefuses { zone: zone.name.clone(), error })?;
    for record in &records {
        plan.remark(ZoneRemark::RecordAdded { zone: zone.name.clone(), record: record.clone() });
    }
    plan.set.extend(vec![kept.change(&edited, &[], &records)]);
    Ok(())
}

fn leads_to_domain(present: &[&Record], main: Option<&Hostname>) -> bool {
    let main = main.map(Hostname::dns_name);
    present.iter().any(|record| match &record.data {
        RecordData::Cname(target) => record.record_type() == RecordType::CNAME && Some(target) == main.as_ref(),
        _ => false,
    })
}
