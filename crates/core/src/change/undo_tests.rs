//! Taking back, change by change.

use super::*;
use crate::account::AccountName;
use crate::change::Consent;
use crate::change::{FolderMake, Recorded};
use crate::name::Host;
use crate::site::Overridable;
use crate::zone::ZoneHome;

const TODAY: Date = Date::constant(2026, 11, 28);

fn account(email: &str) -> Account {
    Account::new(AccountName::parse("bakery").unwrap(), email, "/home/bakery")
}

fn zone() -> Zone {
    Zone::new(Hostname::parse("crumbandtide.example").unwrap(), account("").name, ZoneHome::Here)
}

fn site(root: &str) -> Site {
    serde_json::from_value(serde_json::json!({
        "account": "bakery", "hostnames": ["crumbandtide.example"], "document_root": root, "kind": "addon-domain",
        "https": "forced", "certificate": null, "rules": {},
    }))
    .unwrap()
}

fn loaded(changes: Vec<InventoryChange>, now: Vec<ObjectNow>) -> UndoLoaded {
    let mut set = ChangeSet::new("test");
    changes.into_iter().for_each(|change| set.inventory(change));
    UndoLoaded {
        entry: 7,
        title: "test".into(),
        has_ended_well: true,
        changes: Recorded::from(&set).changes,
        files: vec![],
        now,
        by_hand: None,
        answered: None,
        later: vec![],
    }
}

fn decided(loaded: &UndoLoaded) -> Result<Plan, UndoRefusal> {
    undo(loaded, &Settings::default(), &Layout::new("/harbor"), TODAY)
}

fn inverse(change: InventoryChange, now: ObjectNow) -> Result<Vec<InventoryChange>, UndoRefusal> {
    decided(&loaded(vec![change], vec![now])).map(|plan| plan.set.inventory_changes().cloned().collect())
}

fn file(now: Option<&str>, wrote: Option<&str>, before: Before) -> FileLeft {
    FileLeft {
        path: "/harbor/zones/crumbandtide.example.zone".into(),
        purpose: Purpose::ZoneFile { zone: zone().name },
        mode: 0o644,
        wrote: wrote.map(|text| content_hash(text.as_bytes())),
        before,
        now: now.map(|text| text.as_bytes().to_vec()),
        zone: None,
    }
}

#[test]
fn each_change_of_the_inventory_has_its_opposite_and_only_while_it_is_as_it_was_left() {
    use InventoryChange as To;
    use ObjectNow as Now;
    let (old, new, none) = (account("old@saltmarsh.example"), account("new@saltmarsh.example"), Now::Account(None));
    let plan = |redirects: u32| {
        let limits = crate::account::Limits { redirects: Some(redirects), ..Default::default() };
        AccountPlan { name: account("").name, limits }
    };
    let set = |name: &str| NameserverSet {
        nameservers: vec![crate::name::DnsName::absolute(name).unwrap()],
        ..NameserverSet::default()
    };
    let (before, after) = (site("/home/bakery/old"), site("/home/bakery/new"));
    let sites = |now: &[&Site]| Now::Site { now: now.iter().map(|site| (*site).clone()).collect(), certificate: None };
    let prepared = Zone { nameserver_set: Some("coast".into()), ..zone() };
    let named = || "coast".to_string();
    let plan_now = |now: Option<u32>, former: Option<u32>| Now::Plan { now: now.map(plan), former: former.map(plan) };
    let table = vec![
        (To::AddAccount(new.clone()), Now::Account(Some(new.clone())), To::RemoveAccount(new.clone()), none.clone()),
        (
            To::ReplaceAccount { before: old.clone(), after: new.clone() },
            Now::Account(Some(new.clone())),
            To::ReplaceAccount { before: new.clone(), after: old.clone() },
            Now::Account(Some(old.clone())),
        ),
        (To::RemoveAccount(old.clone()), none, To::AddAccount(old.clone()), Now::Account(Some(old))),
        (To::SetPlan(plan(2)), plan_now(Some(2), Some(1)), To::SetPlan(plan(1)), plan_now(Some(3), Some(1))),
        (To::SetPlan(plan(2)), plan_now(Some(2), None), To::RemovePlan(plan(2)), plan_now(None, None)),
        (To::RemovePlan(plan(2)), plan_now(None, Some(2)), To::SetPlan(plan(2)), plan_now(Some(1), None)),
        (
            To::SetNameservers { name: named(), before: None, after: set("ns1.example.") },
            Now::Nameservers(Some(set("ns1.example."))),
            To::RemoveNameservers { name: named(), set: set("ns1.example.") },
            Now::Nameservers(None),
        ),
        (
            To::SetNameservers { name: named(), before: Some(set("ns1.example.")), after: set("ns2.example.") },
            Now::Nameservers(Some(set("ns2.example."))),
            To::SetNameservers { name: named(), before: Some(set("ns2.example.")), after: set("ns1.example.") },
            Now::Nameservers(Some(set("ns3.example."))),
        ),
        (
            To::RemoveNameservers { name: named(), set: set("ns1.example.") },
            Now::Nameservers(None),
            To::SetNameservers { name: named(), before: None, after: set("ns1.example.") },
            Now::Nameservers(Some(set("ns1.example."))),
        ),
        (To::AddSite(after.clone()), sites(&[&after]), To::RemoveSite(after.clone()), sites(&[&before])),
        (
            To::ReplaceSite { before: before.clone(), after: after.clone() },
            sites(&[&after]),
            To::ReplaceSite { before: after.clone(), after: before.clone() },
            sites(&[&after, &before]),
        ),
        (To::RemoveSite(before.clone()), sites(&[]), To::AddSite(before.clone()), sites(&[&before])),
        (To::AddZone(zone()), Now::Zone(Some(zone())), To::RemoveZone(zone()), Now::Zone(Some(prepared.clone()))),
        (
            To::ReplaceZone { before: zone(), after: prepared.clone() },
            Now::Zone(Some(prepared.clone())),
            To::ReplaceZone { before: prepared, after: zone() },
            Now::Zone(None),
        ),
        (To::RemoveZone(zone()), Now::Zone(None), To::AddZone(zone()), Now::Zone(Some(zone()))),
    ];
    for (change, as_left, opposite, otherwise) in table {
        assert_eq!(inverse(change.clone(), as_left), Ok(vec![opposite]), "{change:?}");
        let what = object_of(&change);
        assert_eq!(
            inverse(change, otherwise),
            Err(UndoRefusal::ChangedSince { entry: 7, what: what.clone(), by: None }),
            "{what}"
        );
        assert!(what.contains(' '), "{what}");
    }
    assert_eq!(inverse(To::EndWait { site: Host::parse("a.example").unwrap() }, Now::Other), Ok(vec![]));
}

#[test]
fn several_changes_of_one_object_are_taken_back_from_the_last_one_on() {
    use InventoryChange as To;
    let [first, second, third] = ["/home/bakery/1", "/home/bakery/2", "/home/bakery/3"].map(site);
    let changes = vec![
        To::ReplaceSite { before: first.clone(), after: second.clone() },
        To::ReplaceSite { before: second.clone(), after: third.clone() },
    ];
    let now = || ObjectNow::Site { now: vec![third.clone()], certificate: None };
    let plan = decided(&loaded(changes, vec![now(), now()])).unwrap();
    let last = plan.set.inventory_changes().last().cloned();
    assert_eq!(last, Some(To::ReplaceSite { before: second, after: first }));
}

#[test]
fn a_site_with_a_certificate_comes_back_with_it_or_not_at_all() {
    use crate::certificate::CertificateFiles;
    let files = CertificateFiles { folder: "/harbor/certificates/crumbandtide.example/1".into() };
    let gone = Site { certificate: Some(files), ..site("/home/bakery/www") };
    let without = ObjectNow::Site { now: vec![], certificate: None };
    let refused = inverse(InventoryChange::RemoveSite(gone), without);
    assert!(matches!(refused, Err(UndoRefusal::ChangedSince { .. })), "{refused:?}");
}

#[test]
fn files_go_back_and_a_zone_under_a_higher_serial() {
    let put = |file: FileLeft| {
        let loaded = UndoLoaded { files: vec![file], ..loaded(vec![], vec![]) };
        decided(&loaded).map(|plan| plan.set.changes)
    };
    let written = put(file(Some("new"), Some("new"), Before::Content(b"old".to_vec()))).unwrap();
    assert!(matches!(&written[..], [Change::WriteFile(write)] if &write.content[..] == b"old"
        && write.before.as_deref() == Some(b"new")));
    let removed = put(file(Some("new"), Some("new"), Before::Nothing)).unwrap();
    assert!(matches!(&removed[..], [Change::RemoveFile(removal)] if removal.before == b"new"));
    let back = put(file(None, None, Before::Content(b"old".to_vec()))).unwrap();
    assert!(matches!(&back[..], [Change::WriteFile(write)] if write.before.is_none()));
    let edited = put(file(Some("by hand"), Some("new"), Before::Nothing));
    assert!(matches!(edited, Err(UndoRefusal::ChangedSince { by: None, .. })), "{edited:?}");
    assert!(matches!(put(file(Some("new"), Some("new"), Before::Lost)), Err(UndoRefusal::NoCopies { .. })));
    // Pools and copies are decided anew, or stay.
    let copy = FileLeft { purpose: Purpose::Copy, ..file(Some("other"), Some("new"), Before::Nothing) };
    assert_eq!(put(copy), Ok(vec![]));

    let text = |serial: u32| format!("@ SOA ns1 host {serial} 4h 30m 4w 5m\n@ NS ns1.saltmarsh.example.\n");
    let document = |serial| Document::parse(text(serial), &zone().name.dns_name()).unwrap();
    let (old, new) = (text(2_026_112_801), text(2_026_112_802));
    let zone =
        ZoneLeft { before: document(2_026_112_801), now: Some(document(2_026_112_802)), served: vec![2_026_112_805] };
    let left =
        FileLeft { zone: Some(Box::new(zone)), ..file(Some(&new), Some(&new), Before::Content(old.into_bytes())) };
    let written = put(left).unwrap();
    let Some(Change::WriteFile(write)) = written.first() else { panic!("{written:?}") };
    assert!(String::from_utf8_lossy(&write.content).contains("2026112806"), "above that of every server");
}

#[test]
fn what_has_left_the_machine_and_what_did_not_happen_is_refused_and_folders_are_named() {
    let mut told = loaded(vec![], vec![]);
    let make = FolderMake {
        home: "/home/bakery".into(),
        below: "www".into(),
        system_user: None,
        mode: 0o755,
        group: None,
        early: false,
        starter_page: None,
        starter_files: vec![],
    };
    told.changes.push(RecordedChange::MakeFolder(make));
    told.files.push(file(Some("new"), Some("new"), Before::Nothing));
    let plan = decided(&told).unwrap();
    let stays = vec!["/home/bakery/www".to_string()];
    assert_eq!(plan.remarks, [Remark::TakenBack { entry: 7, title: "test".into(), stays }]);
    assert_eq!(plan.set.title, "undo 7 (test)");
    // Nothing of it is left to be taken back.
    let beside = Layout::new("/harbor").unknown_hosts(Settings::default().web.server);
    let path = std::mem::replace(&mut told.files[0].path, beside);
    assert_eq!(decided(&told).unwrap().remarks, [Remark::Unchanged], "it is decided anew with every change of sites");
    told.files[0].path = path;
    let write = |purpose| RecordedChange::WriteFile { path: "/k".into(), before_hash: None, mode: 0o600, purpose };
    for purpose in [Purpose::Key, Purpose::Chain, Purpose::Request, Purpose::Staple] {
        told.changes.push(write(purpose));
        let refused = decided(&told).unwrap_err();
        assert_eq!(refused, UndoRefusal::ForGood { entry: 7, what: ForGood::Certificate });
        told.changes.pop();
    }
    told.has_ended_well = false;
    assert!(matches!(decided(&told), Err(UndoRefusal::NotDone { entry: 7, .. })));
}

#[test]
fn who_changed_it_since_is_named() {
    let new = account("new@saltmarsh.example");
    let mut changed = loaded(vec![InventoryChange::AddAccount(new.clone())], vec![ObjectNow::Account(None)]);
    let of = |entry: i64, object: InventoryChange| {
        Later::new(entry, "later".into(), &[RecordedChange::Inventory { to: Box::new(object) }])
    };
    changed.later = vec![of(9, InventoryChange::AddZone(zone())), of(8, InventoryChange::RemoveAccount(new))];
    let refused = decided(&changed).unwrap_err();
    assert!(
        matches!(&refused, UndoRefusal::ChangedSince { by: Some(later), .. } if later.entry == 8
        && !later.is_for_good),
        "{refused:?}"
    );
}

#[test]
fn what_would_come_back_must_not_be_in_the_way_of_others_and_needs_its_consents_again() {
    let mut before = site("/home/bakery/www");
    before.rules.content.htaccess = vec![Overridable::FileInfo];
    let gone = InventoryChange::RemoveSite(before.clone());
    let none = || ObjectNow::Site { now: vec![], certificate: None };
    let name = Host::parse("crumbandtide.example").unwrap();
    let mut removed = loaded(vec![gone], vec![none()]);
    assert_eq!(names_coming_back(&removed.changes), before.hostnames);
    let trusts = |groups: Vec<Overridable>| Consent::TrustsHtaccess {
        site: name.clone(),
        account: before.account.clone(),
        groups,
    };
    assert_eq!(decided(&removed).unwrap().consents, [trusts(vec![Overridable::FileInfo])]);
    let after = site("/home/bakery/www");
    let change = InventoryChange::ReplaceSite { before: before.clone(), after: after.clone() };
    let off = loaded(vec![change], vec![ObjectNow::Site { now: vec![after], certificate: None }]);
    assert_eq!(decided(&off).unwrap().consents, [trusts(vec![Overridable::FileInfo])]);
    assert!(names_coming_back(&off.changes).is_empty());
    let answered = AnsweredBefore { host: name.clone(), address: "192.0.2.10:443".parse().unwrap(), status: Some(200) };
    removed.answered = Some(answered.clone());
    assert_eq!(decided(&removed).unwrap().consents[0], Consent::TakesOverName(answered));
    let found = ByHand { host: name, file: "/etc/nginx/own.conf".into(), line: 3 };
    removed.by_hand = Some(found.clone());
    assert_eq!(decided(&removed), Err(UndoRefusal::ByHand { entry: 7, found }));
}
