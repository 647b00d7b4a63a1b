//! The inventory: what is written is what is read, all changes of a set or none.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::{
    Account, AccountName, Certificate, CertificateFiles, CertificateState, HttpsPolicy, Site, SiteKind, SiteRules,
    Waiting, Zone, ZoneHome,
};
use jiff::Timestamp;

use super::*;

fn name(text: &str) -> Hostname {
    Hostname::parse(text).unwrap()
}

fn account() -> Account {
    Account {
        name: AccountName::parse("choir").unwrap(),
        email: "choir@saltmarsh.example".into(),
        home: "/home/choir".into(),
        system_user: Some("choir".into()),
        plan: None,
    }
}

fn site() -> Site {
    Site {
        account: account().name,
        hostnames: vec![name("lanternchoir.example"), name("www.lanternchoir.example")],
        document_root: "/home/choir/www/lanternchoir.example".into(),
        kind: SiteKind::AddonDomain,
        https: HttpsPolicy::None,
        certificate: None,
        rules: SiteRules { hsts: Some(300), ..SiteRules::default() },
    }
}

fn fresh() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::create(&folder.path().join("inventory.sqlite")).unwrap();
    (folder, store)
}

fn commit(store: &mut Store, changes: Vec<InventoryChange>) -> Result<(), StoreError> {
    let mut set = ChangeSet::new("test");
    changes.into_iter().for_each(|change| set.inventory(change));
    let entry = store.next_entry().unwrap();
    store.begin(entry, Timestamp::UNIX_EPOCH, "tester", &set, &[]).unwrap();
    store.commit(entry, &set)
}

#[test]
fn what_is_written_is_read_back() {
    let (_folder, mut store) = fresh();
    let zone = Zone::new(name("lanternchoir.example"), account().name, ZoneHome::Here);
    let certificate = Certificate {
        site: name("lanternchoir.example"),
        names: site().hostnames,
        files: CertificateFiles { folder: "/harbor/certificates/lanternchoir.example/1".into() },
        not_before: "2026-11-23T07:00:00Z".parse().unwrap(),
        not_after: "2027-02-21T07:00:00Z".parse().unwrap(),
        state: CertificateState::Served,
    };
    let waiting = Waiting {
        site: name("lanternchoir.example"),
        since: "2026-11-23T07:00:00Z".parse().unwrap(),
        not_before: Some("2026-11-23T08:00:00Z".parse().unwrap()),
        reason: "the CA said so".into(),
    };
    let after = Site { https: HttpsPolicy::Forced, certificate: Some(certificate.files.clone()), ..site() };
    commit(
        &mut store,
        vec![
            InventoryChange::AddAccount(account()),
            InventoryChange::AddSite(site()),
            InventoryChange::AddZone(zone.clone()),
            InventoryChange::RecordCertificate(certificate.clone()),
            InventoryChange::Await(waiting.clone()),
            InventoryChange::ReplaceSite { before: site(), after: after.clone() },
        ],
    )
    .unwrap();
    assert_eq!(store.account(&account().name).unwrap(), Some(account()));
    assert_eq!(store.site_of(&name("www.lanternchoir.example")).unwrap(), Some(after.clone()));
    assert_eq!(store.sites(Some(&account().name)).unwrap(), [after]);
    assert_eq!(store.enclosing_zone(&name("a.b.lanternchoir.example")).unwrap(), Some(zone));
    assert_eq!(store.certificate_of(&name("lanternchoir.example")).unwrap().as_ref(), Some(&certificate));
    assert_eq!(store.all_certificates().unwrap(), [certificate]);
    assert_eq!(store.all_waiting().unwrap(), [waiting]);
    commit(&mut store, vec![InventoryChange::EndWait { site: name("lanternchoir.example") }]).unwrap();
    assert_eq!(store.all_waiting().unwrap(), []);
}

#[test]
fn a_set_that_fails_leaves_nothing_and_stays_unfinished() {
    let (_folder, mut store) = fresh();
    let failed = commit(
        &mut store,
        vec![
            InventoryChange::AddAccount(account()),
            InventoryChange::AddSite(site()),
            InventoryChange::AddSite(site()),
        ],
    );
    assert!(failed.is_err());
    assert_eq!(store.accounts().unwrap(), []);
    assert_eq!(store.unfinished().unwrap().len(), 1);
    assert_eq!(store.logbook(5).unwrap()[0].outcome, EntryOutcome::Begun);
}

#[test]
fn a_harbor_that_is_not_there_or_newer_is_told() {
    let (folder, store) = fresh();
    store.connection.pragma_update(None, "user_version", 99).unwrap();
    drop(store);
    let path = folder.path().join("inventory.sqlite");
    assert!(matches!(Store::open(&path), Err(StoreError::Newer(_, 99))));
    assert!(matches!(Store::open(&folder.path().join("none/inventory.sqlite")), Err(StoreError::NoHarbor(_))));
}
