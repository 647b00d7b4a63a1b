//! The decision to make or know a zone for a domain whose names are not served here. Attaching a domain makes its zone as
//! well.

use jiff::Timestamp;

use super::{KeptZone, NewZone, NewZoneFiles, Zone, ZoneDesign, ZoneHome, ZoneRefusal, ZoneRemark, new_zone};
use crate::account::{Account, AccountName};
use crate::change::{Consent, InventoryChange, Plan};
use crate::harbor::{Layout, Settings};
use crate::name::Hostname;
use crate::zone::{Document, serial_date};

/// What was asked for.
#[derive(Debug, Clone)]
pub struct CreateZone {
    pub domain: Hostname,
    pub account: AccountName,
    pub design: ZoneDesign,
}

/// Where the zone comes from, with what was read for it.
#[derive(Debug, Clone)]
pub enum ZoneOrigin {
    /// Kept here: from a template, or byte for byte from a master file.
    Here {
        content: Option<Box<Document>>,
        files: Box<NewZoneFiles>,
    },
    /// On a primary server, where it is already.
    Remote(Box<KeptZone>),
    Elsewhere,
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct CreateZoneLoaded {
    pub owner: Option<Account>,
    /// A zone of that name which is known already.
    pub known: Option<Zone>,
    /// Whether a zone may begin at the name: it is a registrable domain, or its parent delegates it.
    pub is_cut: bool,
    /// The zone here that the name lies in: it says itself where another one begins.
    pub above: Option<Hostname>,
    pub origin: ZoneOrigin,
}

/// The design with the nameserver set of the account, where none was named. A reverse zone has no site, and no addresses.
pub fn design_for(request: &CreateZone, owner: Option<&Account>) -> ZoneDesign {
    let of_account = owner.and_then(|owner| owner.nameserver_set.clone());
    ZoneDesign {
        nameserver_set: request.design.nameserver_set.clone().or(of_account),
        without_addresses: request.design.without_addresses || request.domain.is_reverse(),
        ..request.design.clone()
    }
}

/// Decides the zone.
pub fn create_zone(
    request: &CreateZone,
    loaded: &CreateZoneLoaded,
    settings: &Settings,
    layout: &Layout,
    now: Timestamp,
) -> Result<Plan, ZoneRefusal> {
    let CreateZone { domain, account, .. } = request;
    let owner = loaded.owner.as_ref().ok_or_else(|| ZoneRefusal::UnknownAccount(account.clone()))?;
    if let Some(known) = &loaded.known {
        return Err(ZoneRefusal::Exists { zone: domain.clone(), account: known.account.clone() });
    }
    let mut plan = Plan::new(format!("zone create {domain}"));
    match (loaded.is_cut, &loaded.above) {
        (true, _) => {}
        // Its server would answer from the new zone at once, and hide what it says there now.
        (false, Some(above)) => {
            return Err(ZoneRefusal::NoCut { zone: domain.clone(), above: above.clone() });
        }
        // A reverse zone, or one below another's: many parents delegate only what is served already.
        (false, None) => plan.needs_consent(Consent::BeginsUndelegated { zone: domain.clone() }),
    }
    let zone = || domain.clone();
    match &loaded.origin {
        ZoneOrigin::Here { content, files } => {
            let design = design_for(request, Some(owner));
            let (content, today) = (content.as_deref().cloned(), serial_date(now));
            let wanted = NewZone { domain, account, design: &design, content, today };
            let made = new_zone(&wanted, files, settings, layout)?;
            plan.set.changes.extend(made.changes);
            plan.remark(ZoneRemark::New { zone: zone(), serial: made.document.soa().serial });
            plan.remarks.extend(made.carried.map(|carried| ZoneRemark::CarriedOver { zone: zone(), carried }.into()));
        }
        ZoneOrigin::Remote(kept) => {
            plan.set.inventory(InventoryChange::AddZone(kept.zone.clone()));
            let (records, serial) = (kept.document.records().count(), kept.document.soa().serial);
            plan.remark(ZoneRemark::OnPrimary { zone: zone(), records, serial });
        }
        ZoneOrigin::Elsewhere => {
            plan.set.inventory(InventoryChange::AddZone(Zone::new(zone(), account.clone(), ZoneHome::Elsewhere)));
            plan.remark(ZoneRemark::Elsewhere { zone: zone() });
        }
    }
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::DnsName;
    use crate::zone::{Mail, ZonePlace};

    fn request() -> CreateZone {
        CreateZone {
            domain: Hostname::parse("gullrock.example").unwrap(),
            account: AccountName::parse("boatyard").unwrap(),
            design: ZoneDesign::plain(Mail::Unsaid),
        }
    }

    fn owner() -> Account {
        let owner = Account::new(request().account, "yard@saltmarsh.example", "/home/boatyard");
        Account { nameserver_set: Some("own".into()), ..owner }
    }

    fn decide(origin: ZoneOrigin, owner: Option<Account>, known: Option<Zone>) -> Result<Plan, ZoneRefusal> {
        let mut settings = Settings::default();
        let set = crate::harbor::NameserverSet {
            nameservers: vec![DnsName::absolute("ns1.saltmarsh.example").unwrap()],
            ..Default::default()
        };
        settings.nameserver_sets.insert("own".into(), set);
        let loaded = CreateZoneLoaded { owner, known, is_cut: true, above: None, origin };
        let now = "2026-11-27T12:00:00Z".parse().unwrap();
        create_zone(&request(), &loaded, &settings, &Layout::new("/harbor"), now)
    }

    fn zone(plan: &Plan) -> Zone {
        let mut all = plan.set.inventory_changes().filter_map(|change| match change {
            InventoryChange::AddZone(zone) => Some(zone.clone()),
            _ => None,
        });
        all.next().expect("a zone is added")
    }

    #[test]
    fn a_zone_here_has_the_set_of_its_account_and_one_elsewhere_is_only_known() {
        let here = ZoneOrigin::Here { content: None, files: Box::default() };
        let plan = decide(here.clone(), Some(owner()), None).unwrap();
        assert_eq!(zone(&plan).nameserver_set.as_deref(), Some("own"));
        assert!(matches!(&plan.remarks[..], [crate::change::Remark::Zone(ZoneRemark::New { serial: 2026112701, .. })]));
        // A secondary has it from another time.
        let serial = |known: u32, content: Option<u32>| {
            let text = |serial| {
                format!(
                    "$TTL 300\n@ SOA ns1.saltmarsh.example. host {serial} 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n"
                )
            };
            let read = |serial| Document::parse(text(serial), &request().domain.dns_name()).unwrap();
            let files = NewZoneFiles { known_serial: Some(known), ..NewZoneFiles::default() };
            let content = content.map(|serial| Box::new(read(serial)));
            let plan = decide(ZoneOrigin::Here { content, files: Box::new(files) }, Some(owner()), None).unwrap();
            let zone = plan.set.pending(std::path::Path::new("/harbor/zones/gullrock.example.zone")).unwrap().to_vec();
            Document::parse(zone, &request().domain.dns_name()).unwrap().soa().serial
        };
        assert_eq!((serial(2026112605, None), serial(2026112701, None)), (2026112701, 2026112702));
        assert_eq!(serial(2026112807, None), 2026112808);
        assert_eq!(
            (serial(7, Some(7)), serial(6, Some(7)), serial(8, Some(7))),
            (7, 7, 9),
            "a file as it is, if it can"
        );
        let plan = decide(ZoneOrigin::Elsewhere, Some(owner()), None).unwrap();
        assert_eq!((zone(&plan).home, plan.set.changes.len()), (ZoneHome::Elsewhere, 1));
        assert_eq!(decide(here.clone(), None, None), Err(ZoneRefusal::UnknownAccount(request().account)));
        let known = Zone::new(request().domain, AccountName::parse("choir").unwrap(), ZoneHome::Here);
        assert!(matches!(decide(here, Some(owner()), Some(known)), Err(ZoneRefusal::Exists { .. })));
    }

    #[test]
    fn a_zone_of_a_primary_server_is_known_as_it_is() {
        let text = "$TTL 900\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 A 192.0.2.1\n";
        let name = request().domain;
        let kept = KeptZone {
            zone: Zone::new(name.clone(), request().account, ZoneHome::Remote),
            document: Document::parse(text, &name.dns_name()).unwrap(),
            place: ZonePlace::Primary { server: "192.0.2.53:53".parse().unwrap(), key_file: "/key".into() },
        };
        let plan = decide(ZoneOrigin::Remote(Box::new(kept)), Some(owner()), None).unwrap();
        assert_eq!(plan.remarks, [ZoneRemark::OnPrimary { zone: name, records: 3, serial: 7 }.into()]);
    }
    #[test]
    fn where_no_zone_was_seen_to_begin_one_begins_by_consent_and_never_inside_one_of_ours() {
        let decide = |is_cut: bool, above: Option<&str>| {
            let above = above.map(|name| Hostname::parse(name).unwrap());
            let loaded =
                CreateZoneLoaded { owner: Some(owner()), known: None, is_cut, above, origin: ZoneOrigin::Elsewhere };
            let now = "2026-11-27T12:00:00Z".parse().unwrap();
            create_zone(&request(), &loaded, &Settings::default(), &Layout::new("/harbor"), now)
        };
        let zone = request().domain;
        let above = Hostname::parse("saltmarsh.example").unwrap();
        assert_eq!(decide(false, None).unwrap().consents, [Consent::BeginsUndelegated { zone: zone.clone() }]);
        assert_eq!(decide(true, None).unwrap().consents, []);
        assert_eq!(decide(true, Some("saltmarsh.example")).unwrap().consents, []);
        assert_eq!(decide(false, Some("saltmarsh.example")), Err(ZoneRefusal::NoCut { zone, above }));
    }
}
