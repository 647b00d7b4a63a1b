//! The decision to change what a zone is: the account that it belongs to, and what it was made by: its template, its mail, its
//! nameserver set. What somebody has edited by hand stays.

use std::collections::BTreeSet;

use jiff::Timestamp;

use super::in_step::{Realignable, ZoneOutcome, bring_to};
use super::{KeptZone, SoaWish, Zone, ZoneRefusal, ZoneRemark};
use crate::account::AccountName;
use crate::change::{InventoryChange, Plan, Remark};
use crate::name::Hostname;
use crate::zone::rules::judge_loading;
use crate::zone::{AlterRefused, serial_date};

/// What was asked for; `None`: as before.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ChangeZone {
    pub account: Option<AccountName>,
    /// The inner `None` is the set of `[host]`.
    pub nameserver_set: Option<Option<String>>,
    pub soa: SoaWish,
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct ChangeZoneLoaded {
    pub zone: Zone,
    /// Whether the wanted account is one.
    pub account_known: bool,
    /// Names in the zone that are attached to the account of before.
    pub attached: Vec<Hostname>,
    /// What the registrar has to enter for the wanted nameserver set, a value a line.
    pub at_registrar: Vec<String>,
    /// The zone with its old and its new pattern, where what it is made by changes.
    pub remade: Option<Realignable>,
    /// The zone, where other values are wished for its start of authority.
    pub kept: Option<KeptZone>,
}

/// Decides it.
pub fn change_zone(
    request: &ChangeZone,
    loaded: &ChangeZoneLoaded,
    now: Timestamp,
) -> Result<(Plan, Vec<ZoneOutcome>), ZoneRefusal> {
    let before = &loaded.zone;
    let mut plan = Plan::new(format!("zone change {}", before.name));
    let mut after = before.clone();
    if let Some(account) = request.account.clone().filter(|account| *account != before.account) {
        if !loaded.account_known {
            return Err(ZoneRefusal::UnknownAccount(account));
        }
        if let Some(name) = loaded.attached.first() {
            return Err(ZoneRefusal::HoldsNames { zone: before.name.clone(), name: name.clone() });
        }
        plan.remark(ZoneRemark::HandedTo { zone: before.name.clone(), account: account.clone() });
        after.account = account;
    }
    if let Some(set) = &request.nameserver_set {
        after.nameserver_set = set.clone();
    }
    let mut outcomes = Vec::new();
    match &loaded.remade {
        Some(remade) => outcomes.extend(bring_to(remade, after, &mut plan, &mut BTreeSet::new(), now)),
        None if after != *before => {
            plan.set.inventory(InventoryChange::ReplaceZone { before: before.clone(), after });
        }
        None => {}
    }
    if let Some(kept) = &loaded.kept {
        change_soa(kept, &request.soa, &mut plan, now)?;
    }
    let values = &loaded.at_registrar;
    if request.nameserver_set.as_ref().is_some_and(|set| *set != before.nameserver_set) && !values.is_empty() {
        plan.remark(ZoneRemark::OtherNameservers { zone: before.name.clone(), values: values.clone() });
    }
    Ok((plan, outcomes))
}

/// Other values in the start of authority, as long as a server loads the zone with them.
fn change_soa(kept: &KeptZone, wish: &SoaWish, plan: &mut Plan, now: Timestamp) -> Result<(), ZoneRefusal> {
    let (zone, present) = (kept.zone.name.clone(), kept.document.soa());
    let wanted = wish.of(present);
    if wanted == *present {
        plan.remark(Remark::Unchanged);
        return Ok(());
    }
    let edited = kept.document.with_changes(&[], &[], Some(&wanted), serial_date(now));
    let edited = edited.map_err(|error| ZoneRefusal::Edit { zone: zone.clone(), error })?;
    if let Some(fault) = judge_loading(&edited).into_iter().next() {
        return Err(ZoneRefusal::Alter(AlterRefused::Breaks(fault)));
    }
    plan.change(kept.change(&edited, &[], &[]));
    plan.remark(ZoneRemark::SoaChanged { zone, soa: Box::new(edited.soa().clone()) });
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::change::Remark;
    use crate::harbor::Settings;
    use crate::name::DnsName;
    use crate::zone::{KeptZone, Mail, ZoneDesign, ZoneHome, ZonePlace};

    fn account(name: &str) -> AccountName {
        AccountName::parse(name).unwrap()
    }

    fn now() -> Timestamp {
        "2026-11-27T12:00:00Z".parse().unwrap()
    }

    fn loaded(remade: Option<Realignable>) -> ChangeZoneLoaded {
        let domain = Hostname::parse("gullrock.example").unwrap();
        let zone = Zone::new(domain, account("boatyard"), ZoneHome::Here);
        ChangeZoneLoaded {
            zone,
            account_known: true,
            attached: vec![],
            at_registrar: vec!["nameserver ns7".into()],
            remade,
            kept: None,
        }
    }

    #[test]
    fn a_zone_goes_to_another_account_unless_it_holds_names_of_the_old_one() {
        let request = ChangeZone { account: Some(account("choir")), ..ChangeZone::default() };
        let (plan, _) = change_zone(&request, &loaded(None), now()).unwrap();
        let given = |change: &InventoryChange| matches!(change, InventoryChange::ReplaceZone { after, .. } if after.account == account("choir"));
        assert!(plan.set.inventory_changes().any(given));
        let holding = ChangeZoneLoaded { attached: vec![loaded(None).zone.name], ..loaded(None) };
        assert!(matches!(change_zone(&request, &holding, now()), Err(ZoneRefusal::HoldsNames { .. })));
        let nobody = ChangeZoneLoaded { account_known: false, ..loaded(None) };
        assert!(matches!(change_zone(&request, &nobody, now()), Err(ZoneRefusal::UnknownAccount(_))));
        assert!(change_zone(&ChangeZone::default(), &loaded(None), now()).unwrap().0.is_empty());
    }

    #[test]
    fn another_nameserver_set_tells_what_the_registrar_has_to_enter() {
        let to =
            |set: Option<&str>| ChangeZone { nameserver_set: Some(set.map(String::from)), ..ChangeZone::default() };
        let told = |request: &ChangeZone| change_zone(request, &loaded(None), now()).unwrap().0.remarks;
        let zone = loaded(None).zone.name;
        let remark = ZoneRemark::OtherNameservers { zone, values: vec!["nameserver ns7".into()] };
        assert_eq!(told(&to(Some("quay"))), [Remark::from(remark)]);
        assert!(told(&to(None)).is_empty() && told(&ChangeZone::default()).is_empty(), "the set is the same");
    }

    #[test]
    fn the_start_of_authority_gets_other_values_and_what_breaks_the_zone_is_refused() {
        let name = |text: &str| DnsName::absolute(text).unwrap();
        let with = |wish: SoaWish| {
            let zone = loaded(None).zone;
            let text = "$TTL 60\n@ SOA ns1.saltmarsh.example. host ( 7 ; serial\n 4h 30m 4w 5m )\n@ NS ns1.saltmarsh.example.\n";
            let document = crate::zone::Document::parse(text, &zone.name.dns_name()).unwrap();
            let place = ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() };
            let kept = Some(KeptZone { zone, document, place });
            let request = ChangeZone { soa: wish, ..ChangeZone::default() };
            change_zone(&request, &ChangeZoneLoaded { kept, ..loaded(None) }, now()).map(|(plan, _)| plan)
        };
        let wish = SoaWish {
            hostmaster: Some(name("post.gullrock.example")),
            times: Some([7_200, 900, 2_419_200, 60]),
            ..SoaWish::default()
        };
        let plan = with(wish).unwrap();
        let file = plan.set.pending(std::path::Path::new("/harbor/zones/gullrock.example.zone")).unwrap();
        let text = String::from_utf8_lossy(file);
        assert!(text.contains("post.gullrock.example. ( 8 ; serial\n 7200 900 4w 60 )"), "{text}");
        assert!(matches!(&plan.remarks[..], [Remark::Zone(ZoneRemark::SoaChanged { .. })]), "{plan:?}");
        let same = with(SoaWish { times: Some([14_400, 1_800, 2_419_200, 300]), ..SoaWish::default() }).unwrap();
        assert!(same.is_empty() && same.remarks == [Remark::Unchanged]);
        let broken = with(SoaWish { primary: Some(name("ns_1.example")), ..SoaWish::default() }).unwrap_err();
        assert!(matches!(broken, ZoneRefusal::Alter(AlterRefused::Breaks(_))), "{broken:?}");
    }

    #[test]
    fn other_mail_replaces_what_the_template_gave_and_leaves_what_was_added() {
        let mut settings = Settings::default();
        settings.host.nameservers = vec![DnsName::absolute("ns1.saltmarsh.example").unwrap()];
        settings.host.addresses = vec!["192.0.2.10".parse().unwrap()];
        let pattern = |mail| ZoneDesign::plain(mail).pattern(None, &settings).unwrap();
        let (old, new) = (pattern(Mail::Unsaid), pattern(Mail::None));
        let zone = loaded(None).zone;
        let made = old.zone(&zone.name, 7).unwrap();
        let text = String::from_utf8_lossy(made.source()).into_owned() + "quay\t300\tIN\tA\t192.0.2.99\n";
        let document = crate::zone::Document::parse(text, &zone.name.dns_name()).unwrap();
        let place = ZonePlace::File { path: "/harbor/zones/gullrock.example.zone".into() };
        let read = Ok(KeptZone { zone: zone.clone(), document, place });
        let remade = Realignable { zone, old, new: new.clone(), read, attached: vec![] };
        let (plan, outcomes) = change_zone(&ChangeZone::default(), &loaded(Some(remade)), now()).unwrap();
        let added: Vec<String> = outcomes[0].merged.added.iter().map(ToString::to_string).collect();
        assert!(added.iter().any(|record| record.contains("MX 0 .")), "{added:?}");
        let file = plan.set.pending(std::path::Path::new("/harbor/zones/gullrock.example.zone")).unwrap();
        assert!(String::from_utf8_lossy(file).contains("quay"), "what was added by hand stays");
        let key = |change: &InventoryChange| matches!(change, InventoryChange::ReplaceZone { after, .. } if after.pattern == Some(new.key()));
        assert!(plan.set.inventory_changes().any(key));
    }
}
