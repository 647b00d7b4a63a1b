//! The decision to load zone files that somebody has edited by hand: checked, under a serial that servers take, and told to
//! the server as any other change is. One that cannot be loaded holds up no other.

use jiff::Timestamp;

use super::{ReadZone, Zone};
use crate::change::Plan;
use crate::finding::Finding;
use crate::name::Hostname;
use crate::zone::rules::judge_loading;
use crate::zone::{EditError, serial_date, serial_is_newer};

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
    use crate::zone::{Document, KeptZone, ZoneHome, ZonePlace};

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
