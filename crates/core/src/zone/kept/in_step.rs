//! The decisions about many zones: which differ from what their templates and the settings give now, and moving them to
//! another nameserver set. One that cannot be brought in step holds up no other.

use std::collections::BTreeSet;

use jiff::Timestamp;

use super::{AlignRefused, Aligned, KeptZone, Zone, ZoneRefusal, align, delegated_to, made_by};
use crate::change::{InventoryChange, Plan};
use crate::harbor::{NameserverSet, Settings};
use crate::name::Hostname;
use crate::zone::{Merged, Pattern, Record, RecordType, TemplateError, serial_date};

/// A zone as it was read, or why it could not be, in words.
pub type ReadZone = Result<KeptZone, String>;

/// One zone that differs, or that is left as it is.
#[derive(Debug, Clone)]
pub struct ZoneOutcome {
    pub zone: Hostname,
    pub merged: Merged,
    pub left: Option<WhyLeft>,
}

/// Why a zone is left as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WhyLeft {
    Unread(String),
    Refused(AlignRefused),
}

/// A zone with what it was made by, and what its template gives now.
#[derive(Debug, Clone)]
pub struct Realignable {
    pub zone: Zone,
    pub old: Pattern,
    pub new: Pattern,
    pub read: ReadZone,
    /// The attached hostnames in it.
    pub attached: Vec<Hostname>,
}

/// Decides what brings zones in step with their templates and the settings.
pub fn realign(zones: &[Realignable], now: Timestamp) -> (Plan, Vec<ZoneOutcome>) {
    let (mut plan, mut outcomes, mut known) = (Plan::new("zone realign"), Vec::new(), BTreeSet::new());
    for one in zones {
        outcomes.extend(bring_to(one, one.zone.clone(), &mut plan, &mut known, now));
    }
    (plan, outcomes)
}

/// Brings one zone to its new pattern; `after` is the zone as it will be besides.
pub(super) fn bring_to(
    one: &Realignable,
    after: Zone,
    plan: &mut Plan,
    known: &mut BTreeSet<String>,
    now: Timestamp,
) -> Option<ZoneOutcome> {
    let Realignable { zone, old, new, read, attached } = one;
    if known.insert(new.key()) {
        plan.set.inventory(InventoryChange::KnowPattern(new.clone()));
    }
    bring(zone, Zone { pattern: Some(new.key()), ..after }, read, plan, |kept| {
        let before = made_by(old, &zone.name, attached, &kept.document)?;
        let made = made_by(new, &zone.name, attached, &kept.document)?;
        align(kept, &before, &made, serial_date(now))
    })
}

/// A zone with the nameserver set that it has, and the pattern that it was made by.
#[derive(Debug, Clone)]
pub struct Movable {
    pub zone: Zone,
    pub old_set: NameserverSet,
    pub pattern: Option<Pattern>,
    pub read: ReadZone,
}

/// Decides what moves zones to a set; `name` is `None` for that of `[host]`.
pub fn move_zones(
    zones: &[Movable],
    name: Option<&str>,
    set: &NameserverSet,
    settings: &Settings,
    now: Timestamp,
) -> Result<(Plan, Vec<ZoneOutcome>), ZoneRefusal> {
    let shown = name.unwrap_or("host");
    let Some(primary) = set.nameservers.first() else { return Err(ZoneRefusal::EmptySet(shown.to_string())) };
    let (mut plan, mut outcomes) = (Plan::new(format!("zone move --to {shown}")), Vec::new());
    let hostmaster = settings.hostmaster(primary);
    for Movable { zone, old_set, pattern, read } in zones {
        // The pattern moves along, so that the zone is not taken for a changed one afterwards.
        let pattern = pattern.clone().map(|made| Pattern {
            hostmaster: hostmaster.clone(),
            nameservers: set.nameservers.clone(),
            nameserver_addresses: set.addresses.clone(),
            ..made
        });
        let key = pattern.as_ref().map(Pattern::key);
        let after = Zone { nameserver_set: name.map(String::from), pattern: key, ..zone.clone() };
        if after != *zone
            && let Some(pattern) = pattern
        {
            plan.set.inventory(InventoryChange::KnowPattern(pattern));
        }
        let from_template = after.pattern.is_some();
        outcomes.extend(bring(zone, after, read, &mut plan, |kept| {
            // One that came from outside never had the nameservers of a set of ours: its own ones leave.
            let before = match from_template {
                true => old_delegation(old_set, settings, kept)?,
                false => own_delegation(kept)?,
            };
            align(kept, &before, &delegated_to(set, &hostmaster, &kept.document)?, serial_date(now))
        }));
    }
    Ok((plan, outcomes))
}

/// What the old set gave the zone. A set that it was never given glue for is no reason to stay with it.
fn old_delegation(
    set: &NameserverSet,
    settings: &Settings,
    kept: &KeptZone,
) -> Result<crate::zone::Document, TemplateError> {
    let primary = set.nameservers.first().ok_or(TemplateError::NoNameserver)?;
    let hostmaster = settings.hostmaster(primary);
    delegated_to(set, &hostmaster, &kept.document).or_else(|error| match error {
        TemplateError::NameserverAddress(_) => {
            let outside = NameserverSet { nameservers: set.nameservers.clone(), ..NameserverSet::default() };
            delegated_to(&outside, &hostmaster, &kept.document)
        }
        other => Err(other),
    })
}

/// The nameservers and the start of authority that a zone has, whoever wrote them. Addresses of its own nameservers stay in
/// it: they may be asked for as long as the old delegation is remembered, and some are the domain's hosts besides.
fn own_delegation(kept: &KeptZone) -> Result<crate::zone::Document, TemplateError> {
    let apex = kept.document.origin();
    let wanted =
        |record: &&Record| record.owner == *apex && matches!(record.record_type(), RecordType::SOA | RecordType::NS);
    let records: Vec<Record> = kept.document.records().filter(wanted).cloned().collect();
    Ok(crate::zone::Document::of_records(&records, apex)?)
}

/// Decides about one zone; what comes of it goes into the plan, and `after` into the inventory.
fn bring(
    zone: &Zone,
    after: Zone,
    read: &ReadZone,
    plan: &mut Plan,
    decide: impl FnOnce(&KeptZone) -> Result<Aligned, AlignRefused>,
) -> Option<ZoneOutcome> {
    let left = |why: WhyLeft| Some(ZoneOutcome { zone: zone.name.clone(), merged: Merged::default(), left: Some(why) });
    let kept = match read {
        Ok(kept) => kept,
        Err(words) => return left(WhyLeft::Unread(words.clone())),
    };
    let Aligned { change, merged } = match decide(kept) {
        Ok(aligned) => aligned,
        Err(error) => return left(WhyLeft::Refused(error)),
    };
    plan.set.changes.extend(change);
    if after != *zone {
        plan.set.inventory(InventoryChange::ReplaceZone { before: zone.clone(), after });
    }
    let worth_telling = !merged.is_in_step() || !merged.kept.is_empty();
    worth_telling.then(|| ZoneOutcome { zone: zone.name.clone(), merged, left: None })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::name::DnsName;
    use crate::zone::{Document, Mail, ZoneDesign, ZoneHome, ZonePlace};

    fn settings(address: &str) -> Settings {
        let mut settings = Settings::default();
        settings.host.nameservers = vec![DnsName::absolute("ns1.saltmarsh.example").unwrap()];
        settings.host.addresses = vec![address.parse().unwrap()];
        settings
    }

    fn pattern(address: &str) -> Pattern {
        ZoneDesign::plain(Mail::None).pattern(None, &settings(address)).unwrap()
    }

    fn kept(domain: &str, made: &Pattern) -> KeptZone {
        let name = Hostname::parse(domain).unwrap();
        let zone = Zone::new(name.clone(), AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        let document: Document = made.zone(&name, 2026112301).unwrap();
        let place = ZonePlace::File { path: format!("/harbor/zones/{domain}.zone").into() };
        KeptZone { zone: Zone { pattern: Some(made.key()), ..zone }, document, place }
    }

    fn now() -> Timestamp {
        "2026-11-27T12:00:00Z".parse().unwrap()
    }

    #[test]
    fn one_zone_that_cannot_be_read_holds_up_no_other() {
        let (old, new) = (pattern("192.0.2.10"), pattern("192.0.2.20"));
        let of = |domain: &str, read: Option<&str>| {
            let kept = kept(domain, &old);
            let (zone, read) = (kept.zone.clone(), read.map_or(Ok(kept), |words| Err(words.to_string())));
            Realignable { zone, old: old.clone(), new: new.clone(), read, attached: vec![] }
        };
        let zones = [of("gullrock.example", None), of("quay.example", Some("the zone file is gone"))];
        let (plan, outcomes) = realign(&zones, now());
        assert!(outcomes[0].left.is_none() && !outcomes[0].merged.is_in_step());
        assert_eq!(outcomes[1].left, Some(WhyLeft::Unread("the zone file is gone".into())));
        let replaced = plan.set.inventory_changes().filter(|c| matches!(c, InventoryChange::ReplaceZone { .. }));
        assert_eq!(replaced.count(), 1, "the other one keeps its pattern");
        // The pattern is remembered once.
        let known = plan.set.inventory_changes().filter(|c| matches!(c, InventoryChange::KnowPattern(_)));
        assert_eq!(known.count(), 1);
    }

    #[test]
    fn zones_move_with_their_pattern_and_those_there_already_are_left() {
        let made = pattern("192.0.2.10");
        let set = NameserverSet {
            nameservers: vec![DnsName::absolute("ns.quay.example").unwrap()],
            ..NameserverSet::default()
        };
        let zone = kept("gullrock.example", &made);
        let old_set = settings("192.0.2.10").nameserver_set(None).unwrap();
        let movable = |read: KeptZone, old_set: &NameserverSet| Movable {
            zone: read.zone.clone(),
            old_set: old_set.clone(),
            pattern: Some(made.clone()),
            read: Ok(read),
        };
        let settings = settings("192.0.2.10");
        let (plan, outcomes) =
            move_zones(&[movable(zone.clone(), &old_set)], Some("own"), &set, &settings, now()).unwrap();
        assert_eq!((outcomes.len(), plan.set.changes.len()), (1, 3));
        let after = plan.set.inventory_changes().find_map(|change| match change {
            InventoryChange::ReplaceZone { after, .. } => Some(after.clone()),
            _ => None,
        });
        assert_eq!(after.unwrap().nameserver_set.as_deref(), Some("own"));
        let empty = NameserverSet::default();
        let refused = move_zones(&[], None, &empty, &settings, now()).unwrap_err();
        assert_eq!(refused, ZoneRefusal::EmptySet("host".into()));
        let (plan, outcomes) = move_zones(&[movable(zone, &old_set)], None, &old_set, &settings, now()).unwrap();
        assert!(outcomes.is_empty() && plan.set.needs().zones.is_empty());
    }
}
