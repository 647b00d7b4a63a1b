//! A hostname that somebody else serves, such as a content network: an alias record in the zone that is kept here, and
//! no site.

use jiff::Timestamp;
use jiff::civil::Date;

use super::attach::{AttachLoaded, Attachment, ZoneLoaded};
use super::{HttpsStates, Site, SiteKind, SiteRefusal, SiteRemark, SiteRules};
use crate::account::Account;
use crate::change::Plan;
use crate::name::{DnsName, Hostname};
use crate::zone::{KeptZone, Record, RecordData, ZoneRemark, default_ttl, serial_date};

/// Decides the alias record of a hostname.
pub(super) fn attach(
    hostname: &Hostname,
    target: &DnsName,
    account: &Account,
    loaded: &AttachLoaded,
    now: Timestamp,
) -> Result<Attachment, SiteRefusal> {
    let owner = hostname.dns_name();
    let Some(ZoneLoaded::Kept(kept)) = &loaded.zone else { return Err(SiteRefusal::NoZone(hostname.clone())) };
    if owner == *kept.document.origin() {
        return Err(SiteRefusal::AliasAtApex(hostname.clone()));
    }
    refuse_way_back(hostname, target, &kept.document)?;
    let data = RecordData::Cname(target.clone());
    let record = Record { owner, ttl: default_ttl(&kept.document), data };
    let today = serial_date(now);
    let edited = kept
        .document
        .with_records(std::slice::from_ref(&record), today)
        .map_err(|error| SiteRefusal::ZoneRefuses { zone: kept.zone.name.clone(), error })?;
    let mut plan = Plan::new(format!("attach {hostname} --served-by {}", target.bare()));
    plan.change(kept.change(&edited, &[], std::slice::from_ref(&record)));
    plan.remark(SiteRemark::ServedElsewhere { hostname: hostname.into(), by: target.clone() });
    plan.remark(ZoneRemark::RecordAdded { zone: kept.zone.name.clone(), record });
    // Looked at like a site, and kept in no inventory: the record says everything.
    let site = Site {
        account: account.name.clone(),
        hostnames: vec![hostname.into()],
        document_root: account.home.clone(),
        kind: SiteKind::Subdomain,
        https: HttpsStates::default(),
        certificate: None,
        rules: SiteRules::default(),
    };
    Ok(Attachment { hosts: site.hostnames.clone(), site, plan })
}

/// Decides that the alias record of a hostname goes again; `None`: it has none, so that nothing of it is known here.
pub fn detach_alias(hostname: &Hostname, kept: &KeptZone, today: Date) -> Result<Option<Plan>, SiteRefusal> {
    let owner = hostname.dns_name();
    let alias = |record: &&Record| record.owner == owner && matches!(record.data, RecordData::Cname(_));
    let Some(record) = kept.document.records().find(alias).cloned() else { return Ok(None) };
    let removed = std::slice::from_ref(&record);
    let refuses = |error| SiteRefusal::ZoneRefuses { zone: kept.zone.name.clone(), error };
    let edited = kept.document.without_records(removed, today).map_err(refuses)?;
    let mut plan = Plan::new(format!("detach {hostname}"));
    plan.change(kept.change(&edited, removed, &[]));
    plan.remark(ZoneRemark::RecordRemoved { zone: kept.zone.name.clone(), record });
    Ok(Some(plan))
}

/// Follows the aliases of the zone from the target on: none may come back to the name.
fn refuse_way_back(hostname: &Hostname, target: &DnsName, zone: &crate::zone::Document) -> Result<(), SiteRefusal> {
    let start = hostname.dns_name();
    let mut at = target.clone();
    for _ in 0..16 {
        if at == start {
            return Err(SiteRefusal::LeadsBack(target.clone(), hostname.clone()));
        }
        let next = zone.records().find_map(|record| match &record.data {
            RecordData::Cname(next) if record.owner == at => Some(next.clone()),
            _ => None,
        });
        match next {
            Some(next) => at = next,
            None => return Ok(()),
        }
    }
    Err(SiteRefusal::LeadsBack(target.clone(), hostname.clone()))
}
