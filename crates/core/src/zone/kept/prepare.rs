//! Prepares a zone for a move: times to live are lowered ahead, so that caches let go of the old data soon when it changes,
//! and put back afterwards. What was set by hand in between stays.
//!
//! What is cached already is cached for as long as it said when it was asked for: the move costs little once the longest of
//! the former times has gone.

use std::collections::BTreeMap;

use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

use super::{KeptZone, Zone, ZoneRefusal, ZoneRemark};
use crate::change::{InventoryChange, Plan, Remark};
use crate::name::DnsName;
use crate::zone::{Record, RecordType, serial_date};

/// That the times to live of a zone were lowered, and what they were.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Prepared {
    /// Since when nothing older than the lowered time is cached.
    pub ready_at: Timestamp,
    /// The lowered time, in seconds.
    pub ttl: u32,
    pub sets: Vec<PreparedSet>,
}

/// One record set with the time that it had, in seconds.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PreparedSet {
    pub owner: DnsName,
    pub record_type: RecordType,
    pub ttl: u32,
}

/// The longest time to live of each record set; the start of authority, which changes with every edit, aside.
pub fn ttls<'a>(records: impl IntoIterator<Item = &'a Record>) -> BTreeMap<(DnsName, RecordType), u32> {
    let mut all = BTreeMap::new();
    for record in records.into_iter().filter(|record| record.record_type() != RecordType::SOA) {
        let ttl = all.entry((record.owner.clone(), record.record_type())).or_insert(record.ttl);
        *ttl = record.ttl.max(*ttl);
    }
    all
}

/// From when on a move costs little, if everything that is longer is lowered now.
pub fn ready_at<'a>(longer: impl Iterator<Item = &'a u32>, now: Timestamp) -> Timestamp {
    let longest = longer.max().copied().unwrap_or(0);
    now.checked_add(SignedDuration::from_secs(longest.into())).unwrap_or(now)
}

/// Decides to lower the times to live of a zone to `ttl` seconds.
pub fn prepare_move(kept: &KeptZone, ttl: u32, now: Timestamp) -> Result<Plan, ZoneRefusal> {
    let zone = &kept.zone;
    let mut plan = Plan::new(format!("zone prepare-move {}", zone.name));
    let mut longer = ttls(kept.document.records());
    longer.retain(|_, known| *known > ttl);
    let before = zone.prepared.clone();
    if longer.is_empty() {
        plan.remark(Remark::Unchanged);
        plan.remark(ready(zone, before.as_ref().map_or(now, |prepared| prepared.ready_at), ttl));
        return Ok(plan);
    }
    let ready_at = ready_at(longer.values(), now).max(before.as_ref().map_or(now, |prepared| prepared.ready_at));
    let lowered = |record: &Record| longer.contains_key(&(record.owner.clone(), record.record_type()));
    change_ttls(kept, &mut plan, now, |record| (lowered(record) && record.ttl > ttl).then_some(ttl))?;
    // What was lowered before is put back to what it was then.
    let mut sets = before.map(|prepared| prepared.sets).unwrap_or_default();
    for ((owner, record_type), ttl) in longer {
        if !sets.iter().any(|set| set.owner == owner && set.record_type == record_type) {
            sets.push(PreparedSet { owner, record_type, ttl });
        }
    }
    plan.remark(ZoneRemark::TtlsLowered { zone: zone.name.clone(), sets: sets.len(), ttl });
    plan.remark(ready(zone, ready_at, ttl));
    let after = Zone { prepared: Some(Prepared { ready_at, ttl, sets }), ..zone.clone() };
    plan.set.inventory(InventoryChange::ReplaceZone { before: zone.clone(), after });
    Ok(plan)
}

fn ready(zone: &Zone, at: Timestamp, ttl: u32) -> ZoneRemark {
    ZoneRemark::ReadyToMove { zone: zone.name.clone(), at, ttl }
}

/// Decides to put back the times to live that were lowered.
pub fn put_back(kept: &KeptZone, now: Timestamp) -> Result<Plan, ZoneRefusal> {
    let zone = &kept.zone;
    let mut plan = Plan::new(format!("zone prepare-move {} --back", zone.name));
    let Some(prepared) = &zone.prepared else {
        plan.remark(Remark::Unchanged);
        return Ok(plan);
    };
    let former = |record: &Record| {
        let set = prepared.sets.iter().find(|set| set.owner == record.owner && set.record_type == record.record_type());
        set.filter(|_| record.ttl == prepared.ttl).map(|set| set.ttl)
    };
    let sets = change_ttls(kept, &mut plan, now, former)?;
    plan.remark(ZoneRemark::TtlsPutBack { zone: zone.name.clone(), sets });
    let after = Zone { prepared: None, ..zone.clone() };
    plan.set.inventory(InventoryChange::ReplaceZone { before: zone.clone(), after });
    Ok(plan)
}

/// Gives records other times to live; how many sets that are.
fn change_ttls(
    kept: &KeptZone,
    plan: &mut Plan,
    now: Timestamp,
    wanted: impl Fn(&Record) -> Option<u32>,
) -> Result<usize, ZoneRefusal> {
    let all = kept.document.records().filter(|record| record.record_type() != RecordType::SOA);
    let (old, new): (Vec<Record>, Vec<Record>) = all
        .filter_map(|record| {
            let ttl = wanted(record).filter(|ttl| *ttl != record.ttl)?;
            Some((record.clone(), Record { ttl, ..record.clone() }))
        })
        .unzip();
    if old.is_empty() {
        return Ok(0);
    }
    let edited = kept.document.with_ttls(&wanted, serial_date(now));
    let edited = edited.map_err(|error| ZoneRefusal::Edit { zone: kept.zone.name.clone(), error })?;
    plan.change(kept.change(&edited, &old, &new));
    Ok(ttls(&new).len())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::change::Change;
    use crate::name::Hostname;
    use crate::zone::{Document, ZoneHome, ZonePlace};

    const TEXT: &str = "$TTL 3600\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ 86400 NS ns1.saltmarsh.example.\n\
        @ A 192.0.2.1 ; the old shed\nwww A 192.0.2.1\nquay 60 A 192.0.2.2\n";

    fn now() -> Timestamp {
        "2026-11-28T12:00:00Z".parse().unwrap()
    }

    fn kept(text: &str, prepared: Option<Prepared>) -> KeptZone {
        let name = Hostname::parse("gullrock.example").unwrap();
        let document = Document::parse(text, &name.dns_name()).unwrap();
        let zone = Zone { prepared, ..Zone::new(name, AccountName::parse("boatyard").unwrap(), ZoneHome::Here) };
        KeptZone { zone, document, place: ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() } }
    }

    /// The zone as it is after a plan.
    fn carried_out(kept_before: &KeptZone, plan: &Plan) -> KeptZone {
        let mut after = kept_before.clone();
        for change in &plan.set.changes {
            match change {
                Change::WriteFile(write) => {
                    let text = String::from_utf8(write.content.to_vec()).unwrap();
                    after = KeptZone { zone: after.zone, ..kept(&text, None) };
                }
                Change::Inventory { to: InventoryChange::ReplaceZone { after: zone, .. } } => after.zone = zone.clone(),
                other => panic!("{other:?}"),
            }
        }
        after
    }

    fn shown(kept: &KeptZone) -> Vec<String> {
        let all = ttls(kept.document.records()).into_iter();
        all.map(|((owner, kind), ttl)| format!("{} {kind} {ttl}", owner.bare())).collect()
    }

    #[test]
    fn times_are_lowered_and_put_back_as_they_were() {
        let before = kept(TEXT, None);
        let plan = prepare_move(&before, 300, now()).unwrap();
        let after = carried_out(&before, &plan);
        let lowered = [
            "gullrock.example A 300",
            "gullrock.example NS 300",
            "quay.gullrock.example A 60",
            "www.gullrock.example A 300",
        ];
        assert_eq!(shown(&after), lowered);
        let prepared = after.zone.prepared.clone().unwrap();
        // A day: the longest of what resolvers may have.
        assert_eq!((prepared.ready_at.to_string().as_str(), prepared.ttl), ("2026-11-29T12:00:00Z", 300));
        let zone = before.zone.name.clone();
        assert!(plan.remarks.contains(&ZoneRemark::TtlsLowered { zone: zone.clone(), sets: 3, ttl: 300 }.into()));
        let ready = |at| Remark::from(ZoneRemark::ReadyToMove { zone: zone.clone(), at, ttl: 300 });
        assert!(plan.remarks.contains(&ready(prepared.ready_at)));

        // Once more changes nothing, and still says from when.
        let again = prepare_move(&after, 300, now()).unwrap();
        assert!(again.is_empty() && again.remarks == [Remark::Unchanged, ready(prepared.ready_at)], "{again:?}");
        // Lower still: what is put back is what it was at first.
        let lower = carried_out(&after, &prepare_move(&after, 60, now()).unwrap());
        assert_eq!(lower.zone.prepared.as_ref().unwrap().ready_at, prepared.ready_at);
        let plan = put_back(&lower, now()).unwrap();
        let back = carried_out(&lower, &plan);
        assert_eq!((shown(&back), back.zone.prepared.clone()), (shown(&before), None));
        assert_eq!(plan.remarks, [ZoneRemark::TtlsPutBack { zone, sets: 3 }.into()]);
        assert!(put_back(&back, now()).unwrap().is_empty());
    }

    #[test]
    fn what_was_changed_in_between_stays() {
        let before = kept(TEXT, None);
        let after = carried_out(&before, &prepare_move(&before, 300, now()).unwrap());
        let text = String::from_utf8(after.document.source().to_vec()).unwrap();
        assert!(text.contains("@ 300 A 192.0.2.1 ; the old shed\n"), "{text}");
        let edited = kept(&text.replacen("www 300", "www 120", 1), after.zone.prepared);
        assert!(shown(&edited).contains(&"www.gullrock.example A 120".to_string()), "{text}");
        let back = carried_out(&edited, &put_back(&edited, now()).unwrap());
        let then = [
            "gullrock.example A 3600",
            "gullrock.example NS 86400",
            "quay.gullrock.example A 60",
            "www.gullrock.example A 120",
        ];
        assert_eq!(shown(&back), then);
    }
}
