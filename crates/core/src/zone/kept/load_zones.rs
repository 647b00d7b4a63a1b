//! The decision to load zone files that somebody has edited by hand: checked, under a serial that servers take, and told to
//! the server as any other change is. One that cannot be loaded holds up no other.

use std::collections::HashMap;

use jiff::Timestamp;

use super::{ReadZone, Zone};
use crate::change::Plan;
use crate::finding::Finding;
use crate::name::{DnsName, Hostname};
use crate::zone::rules::judge_loading;
use crate::zone::{Document, EditError, Record, RecordData, RecordType, Soa, serial_date, serial_is_newer};

/// A zone as its file has it, beside what is served.
#[derive(Debug, Clone)]
pub struct Loadable {
    pub zone: Zone,
    pub read: ReadZone,
    /// The newest serial that one of our servers has.
    pub served: Option<u32>,
    /// Whether the server here answers otherwise than the file says; `None`: that was not to be found out.
    pub differs: Option<bool>,
}

/// What becomes of one zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LoadOutcome {
    /// It is loaded with this serial; the one that the file had, where servers would not have taken it.
    Loads { serial: u32, raised_from: Option<u32> },
    /// The servers have it as it is.
    Served { serial: u32 },
    /// It stays as it is served.
    Refused(LoadRefused),
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LoadRefused {
    Unread(String),
    /// Its file is not what is served: the server holds it, and takes updates.
    OfServer,
    /// A server would not load it.
    Fault(Box<Finding>),
    Edit(EditError),
}

/// Whether a server that has answered with these records serves all that the zone has, times to live included; only the serial
/// may be another. What the zone has no more is not seen by this.
pub fn serves_all_of(document: &Document, answered: &[Record]) -> bool {
    let same = |wanted: &Record, has: &Record| match (&wanted.data, &has.data) {
        (RecordData::Soa(wanted), RecordData::Soa(has)) => Soa { serial: has.serial, ..(**wanted).clone() } == **has,
        _ => wanted == has,
    };
    let mut by_set: HashMap<(&DnsName, RecordType), Vec<&Record>> = HashMap::new();
    for record in answered {
        by_set.entry((&record.owner, record.record_type())).or_default().push(record);
    }
    let served = document.served_records();
    let mut counted: HashMap<(&DnsName, RecordType), usize> = HashMap::new();
    let all_there = served.iter().all(|record| {
        *counted.entry((&record.owner, record.record_type())).or_default() += 1;
        let set = by_set.get(&(&record.owner, record.record_type()));
        set.is_some_and(|set| set.iter().any(|has| same(record, has)))
    });
    // A set of which the server has more than the zone.
    all_there && by_set.iter().all(|(key, set)| counted.get(key).is_none_or(|count| distinct(set) <= *count))
}

fn distinct(set: &[&Record]) -> usize {
    set.iter().enumerate().filter(|(at, record)| !set[..*at].contains(record)).count()
}

/// Decides it for each zone.
pub fn load_zones(zones: &[Loadable], now: Timestamp) -> (Plan, Vec<(Hostname, LoadOutcome)>) {
    let mut plan = Plan::new("zone load");
    let outcomes = zones.iter().map(|one| (one.zone.name.clone(), load_one(one, &mut plan, now))).collect();
    (plan, outcomes)
}

fn load_one(one: &Loadable, plan: &mut Plan, now: Timestamp) -> LoadOutcome {
    let kept = match &one.read {
        Ok(kept) => kept,
        Err(words) => return LoadOutcome::Refused(LoadRefused::Unread(words.clone())),
    };
    if !kept.is_file() {
        return LoadOutcome::Refused(LoadRefused::OfServer);
    }
    if let Some(fault) = judge_loading(&kept.document).into_iter().next() {
        return LoadOutcome::Refused(LoadRefused::Fault(Box::new(fault)));
    }
    let written = kept.document.soa().serial;
    let is_taken = one.served.is_none_or(|served| serial_is_newer(written, served));
    if is_taken {
        // The file stays as it is; what was edited is what is loaded.
        plan.change(kept.change(&kept.document, &[], &[]));
        return LoadOutcome::Loads { serial: written, raised_from: None };
    }
    if one.differs == Some(false) {
        return LoadOutcome::Served { serial: written };
    }
    match kept.document.raised_above(one.served.unwrap_or(written), serial_date(now)) {
        Ok(raised) => {
            plan.change(kept.change(&raised, &[], &[]));
            LoadOutcome::Loads { serial: raised.soa().serial, raised_from: Some(written) }
        }
        Err(error) => LoadOutcome::Refused(LoadRefused::Edit(error)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::change::Change;
    use crate::zone::{KeptZone, ZoneHome, ZonePlace};

    fn loadable(serial: u32, more: &str, served: Option<u32>, differs: Option<bool>) -> Loadable {
        let name = Hostname::parse("gullrock.example").unwrap();
        let text = format!(
            "$TTL 60\n@ SOA ns1.saltmarsh.example. host {serial} 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n{more}"
        );
        let document = Document::parse(text, &name.dns_name()).unwrap();
        let zone = Zone::new(name, AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        let place = ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() };
        let read = Ok(KeptZone { zone: zone.clone(), document, place });
        Loadable { zone, read, served, differs }
    }

    fn outcome(one: &Loadable) -> (LoadOutcome, Option<u32>) {
        let (plan, outcomes) = load_zones(std::slice::from_ref(one), "2026-11-28T12:00:00Z".parse().unwrap());
        let written = plan.set.changes.first().map(|change| {
            let Change::WriteFile(write) = change else { panic!("{change:?}") };
            let text = String::from_utf8(write.content.to_vec()).unwrap();
            Document::parse(text, &one.zone.name.dns_name()).unwrap().soa().serial
        });
        (outcomes[0].1.clone(), written)
    }

    #[test]
    fn serials_that_servers_take_stay_and_others_are_raised_above_theirs() {
        let newer = loadable(8, "", Some(7), None);
        assert_eq!(outcome(&newer), (LoadOutcome::Loads { serial: 8, raised_from: None }, Some(8)));
        let never_loaded = loadable(8, "", None, None);
        assert_eq!(outcome(&never_loaded).1, Some(8));
        // Edited without a new serial; and with one that goes back.
        let (same, lower) = (loadable(7, "", Some(7), Some(true)), loadable(3, "", Some(2_026_112_805), Some(true)));
        let raised = |serial, from| (LoadOutcome::Loads { serial, raised_from: Some(from) }, Some(serial));
        assert_eq!(outcome(&same), raised(8, 7));
        assert_eq!(outcome(&lower), raised(2_026_112_806, 3));
        // Nobody could compare: rather once too often.
        assert_eq!(outcome(&loadable(7, "", Some(7), None)), raised(8, 7));
        let as_served = loadable(7, "", Some(7), Some(false));
        assert_eq!(outcome(&as_served), (LoadOutcome::Served { serial: 7 }, None));
    }

    #[test]
    fn only_the_serial_may_be_another_where_everything_is_served() {
        let zone = |text: &str| {
            let head = "$TTL 60\n@ SOA ns1.saltmarsh.example. host 7 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n";
            Document::parse(format!("{head}{text}"), &DnsName::absolute("gullrock.example").unwrap()).unwrap()
        };
        let answered = |text: &str| zone(text).records().cloned().collect::<Vec<_>>();
        let file = zone("www A 192.0.2.1\nwww A 192.0.2.2\n");
        let all = "www A 192.0.2.2\nwww A 192.0.2.1\n";
        let mut of_server = answered(all);
        let RecordData::Soa(soa) = &mut of_server[0].data else { panic!() };
        soa.serial = 9;
        assert!(serves_all_of(&file, &of_server));
        let RecordData::Soa(soa) = &mut of_server[0].data else { panic!() };
        soa.expire = 9;
        assert!(!serves_all_of(&file, &of_server), "another start of authority");
        for other in [
            "www A 192.0.2.1\n",
            "www 70 A 192.0.2.1\nwww 70 A 192.0.2.2\n",
            "www A 192.0.2.1\nwww A 192.0.2.2\nwww A 192.0.2.3\n",
            "www A 192.0.2.1\nwww A 192.0.2.2\n@ NS ns2.saltmarsh.example.\n",
        ] {
            assert!(!serves_all_of(&file, &answered(other)), "{other}");
        }
    }

    #[test]
    fn what_a_server_would_refuse_stays_as_it_is_served() {
        let broken = loadable(8, "www CNAME a\nwww TXT b\n", Some(7), None);
        let (LoadOutcome::Refused(LoadRefused::Fault(fault)), None) = outcome(&broken) else { panic!() };
        assert_eq!((fault.code, fault.place.map(|place| place.line)), ("alias-beside-data", Some(5)));
        let unread = Loadable { read: Err("the file is gone".into()), ..loadable(8, "", None, None) };
        assert_eq!(outcome(&unread).0, LoadOutcome::Refused(LoadRefused::Unread("the file is gone".into())));
        let mut dynamic = loadable(8, "", Some(7), None);
        if let Ok(kept) = &mut dynamic.read {
            kept.place = ZonePlace::Primary { server: "192.0.2.53:53".parse().unwrap(), key_file: "/key".into() };
        }
        assert_eq!(outcome(&dynamic), (LoadOutcome::Refused(LoadRefused::OfServer), None));
    }
}
