//! Records of a listing beside those that a zone has: what is missing is added, in one step for each zone.

use std::collections::HashMap;

use jiff::Timestamp;

use super::compare::{Counts, ListingError, wrong};
use super::{ListedRecord, Listing};
use crate::change::Plan;
use crate::name::{DnsName, Hostname};
use crate::zone::rules::Surroundings;
use crate::zone::{
    KeptZone, Record, RecordData, RecordType, ZoneRefusal, ZoneRemark, add_records, data_as_meant, default_ttl,
    owner_as_meant, serial_date,
};

/// A record as it is meant; without a TTL, that of its neighbours is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MeantRecord {
    pub owner: DnsName,
    pub data: RecordData,
    pub ttl: Option<u32>,
}

/// The records of a listing by their zone, in their order.
pub fn records_by_zone(listing: &Listing) -> Result<Vec<(Hostname, Vec<MeantRecord>)>, ListingError> {
    let mut places: HashMap<&Hostname, usize> = HashMap::new();
    let mut all: Vec<(Hostname, Vec<MeantRecord>)> = Vec::new();
    for (at, listed) in listing.records.iter().enumerate() {
        let record = meant(listed).map_err(wrong(format!("records, the {}. one", at + 1)))?;
        let place = *places.entry(&listed.zone).or_insert_with(|| {
            all.push((listed.zone.clone(), vec![]));
            all.len() - 1
        });
        all[place].1.push(record);
    }
    Ok(all)
}

fn meant(listed: &ListedRecord) -> Result<MeantRecord, String> {
    let zone = listed.zone.dns_name();
    let record_type = RecordType::parse(&listed.record_type).filter(|kind| !kind.is_meta());
    let record_type = record_type.ok_or_else(|| format!("`{}` is not a record type", listed.record_type))?;
    let owner = owner_as_meant(&listed.owner, &zone).map_err(|error| error.to_string())?;
    let data = data_as_meant(&listed.data, record_type, &zone).map_err(|error| error.to_string())?;
    Ok(MeantRecord { owner: owner.value, data: data.value, ttl: listed.ttl })
}

/// Decides that what is missing is added. One that is there stays, whatever its TTL.
pub fn add_listed(
    kept: &KeptZone,
    wanted: &[MeantRecord],
    around: &Surroundings,
    now: Timestamp,
) -> Result<(Plan, Counts), ZoneRefusal> {
    let mut present: HashMap<DnsName, Vec<(RecordData, u32)>> = HashMap::new();
    for record in kept.document.records() {
        present.entry(record.owner.clone()).or_default().push((record.data.clone(), record.ttl));
    }
    let usual = default_ttl(&kept.document);
    let (mut added, mut counts) = (Vec::new(), Counts::default());
    for MeantRecord { owner, data, ttl } in wanted {
        let there = present.entry(owner.clone()).or_default();
        if there.iter().any(|(known, _)| known == data) {
            counts.same += 1;
            continue;
        }
        counts.added += 1;
        let beside = there.iter().find(|(known, _)| known.record_type() == data.record_type()).map(|(_, ttl)| *ttl);
        let ttl = ttl.or(beside).unwrap_or(usual);
        there.push((data.clone(), ttl));
        added.push(Record { owner: owner.clone(), ttl, data: data.clone() });
    }
    let mut plan = Plan::new(format!("add records to {}", kept.zone.name));
    if !added.is_empty() {
        let altered = add_records(&kept.document, added, around, serial_date(now))?;
        plan.change(kept.change(&altered.zone, &altered.facts.removed, &altered.facts.added));
        plan.remark(ZoneRemark::RecordsAdded { zone: kept.zone.name.clone(), records: altered.facts.added });
    }
    Ok((plan, counts))
}
