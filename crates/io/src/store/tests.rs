//! The inventory: what is written is what is read, all changes of a set or none.

use brightharbor_core::account::{Account, AccountName, AccountPlan, Limits};
use brightharbor_core::acme::RevocationReason;
use brightharbor_core::certificate::{
    Certificate, CertificateDetails, CertificateFiles, CertificateSource, CertificateState, NamePause, Revocation,
    Waiting,
};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::site::{HttpsState, HttpsStates, Site, SiteKind, SiteRules};
use brightharbor_core::zone::{Zone, ZoneHome};
use jiff::Timestamp;

use super::*;

fn hostname(text: &str) -> Hostname {
    Hostname::parse(text).unwrap()
}

fn name(text: &str) -> Host {
    Host::parse(text).unwrap()
}

fn account() -> Account {
    let name = AccountName::parse("choir").unwrap();
    Account { system_user: Some("choir".into()), ..Account::new(name, "choir@saltmarsh.example", "/home/choir") }
}

fn site() -> Site {
    Site {
        account: account().name,
        hostnames: vec![name("lanternchoir.example"), name("www.lanternchoir.example")],
        document_root: "/home/choir/www/lanternchoir.example".into(),
        kind: SiteKind::AddonDomain,
        https: HttpsStates::default(),
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
fn the_home_of_another_account_is_found_above_below_and_at_a_folder() {
    let (_folder, mut store) = fresh();
    commit(&mut store, vec![InventoryChange::AddAccount(account())]).unwrap();
    let around = |folder: &str, own: Option<&AccountName>| {
        store.account_around(std::path::Path::new(folder), own).unwrap().map(|(name, _)| name)
    };
    let choir = account().name;
    for folder in ["/home/choir", "/home/choir/www", "/home", "/"] {
        let expected = if folder == "/" { None } else { Some(choir.clone()) };
        assert_eq!(around(folder, None), expected, "{folder}");
    }
    assert_eq!((around("/home/choirs", None), around("/home/choi", None), around("/home/x", None)), (None, None, None));
    assert_eq!(around("/home/choir/www", Some(&choir)), None, "its own home");
}

#[test]
fn what_is_written_is_read_back() {
    let (_folder, mut store) = fresh();
    let zone = Zone::new(hostname("lanternchoir.example"), account().name, ZoneHome::Here);
    let certificate = Certificate {
        site: name("lanternchoir.example"),
        names: site().hostnames,
        files: CertificateFiles { folder: "/harbor/certificates/lanternchoir.example/1".into() },
        not_before: "2026-11-23T07:00:00Z".parse().unwrap(),
        not_after: "2027-02-21T07:00:00Z".parse().unwrap(),
        state: CertificateState::Served,
        source: CertificateSource::Imported,
        details: CertificateDetails::default(),
    };
    let waiting = Waiting {
        site: name("lanternchoir.example"),
        since: "2026-11-23T07:00:00Z".parse().unwrap(),
        not_before: Some("2026-11-23T08:00:00Z".parse().unwrap()),
        reason: "the CA said so".into(),
    };
    let after = Site {
        https: HttpsStates::all(&site().hostnames, HttpsState::Forced),
        certificate: Some(certificate.files.clone()),
        ..site()
    };
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
    assert_eq!(store.enclosing_zone(&hostname("a.b.lanternchoir.example")).unwrap(), Some(zone));
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

/// The tables of the first version, as far as later ones change them.
const VERSION_1: &str = "
CREATE TABLE account (
    name TEXT PRIMARY KEY, email TEXT NOT NULL, home TEXT NOT NULL, system_user TEXT
) STRICT, WITHOUT ROWID;
CREATE TABLE site (
    main TEXT PRIMARY KEY, account TEXT NOT NULL REFERENCES account(name), document_root TEXT NOT NULL,
    kind TEXT NOT NULL, https TEXT NOT NULL, certificate_folder TEXT
) STRICT, WITHOUT ROWID;
CREATE TABLE hostname (
    name TEXT PRIMARY KEY, site TEXT NOT NULL REFERENCES site(main), position INTEGER NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE zone (
    name TEXT PRIMARY KEY, account TEXT NOT NULL REFERENCES account(name), home TEXT NOT NULL
) STRICT, WITHOUT ROWID;
CREATE TABLE certificate (
    site TEXT PRIMARY KEY REFERENCES site(main), names TEXT NOT NULL, folder TEXT NOT NULL,
    not_before TEXT NOT NULL, not_after TEXT NOT NULL, state TEXT NOT NULL
) STRICT, WITHOUT ROWID;
INSERT INTO account VALUES ('choir', 'choir@saltmarsh.example', '/home/choir', NULL);
INSERT INTO site VALUES ('lanternchoir.example', 'choir', '/home/choir/www', 'addon-domain', 'offered', '/harbor/c/1');
INSERT INTO hostname VALUES ('lanternchoir.example', 'lanternchoir.example', 0);
INSERT INTO hostname VALUES ('notyet.example', 'lanternchoir.example', 1);
INSERT INTO site VALUES ('gullrock.example', 'choir', '/home/choir/boats', 'addon-domain', 'forced', '/harbor/c/2');
INSERT INTO hostname VALUES ('gullrock.example', 'gullrock.example', 0);
INSERT INTO zone VALUES ('lanternchoir.example', 'choir', 'here');
INSERT INTO certificate VALUES ('lanternchoir.example', '[\"lanternchoir.example\"]', '/harbor/c/1',
    '2026-11-01T00:00:00Z', '2027-01-30T00:00:00Z', 'served');
PRAGMA user_version = 1;
";

#[test]
fn an_inventory_of_the_first_version_is_brought_up_to_date_and_loses_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("inventory.sqlite");
    rusqlite::Connection::open(&path).unwrap().execute_batch(VERSION_1).unwrap();
    for _ in 0..2 {
        let store = Store::open(&path).unwrap();
        let site = store.site_of(&name("lanternchoir.example")).unwrap().unwrap();
        assert_eq!((&site.rules, site.hostnames.len()), (&SiteRules::default(), 2));
        let states = |site: &Site| site.hostnames.iter().map(|host| site.https_of(host)).collect::<Vec<_>>();
        assert_eq!(states(&site), [HttpsState::Offered, HttpsState::None], "each name by itself");
        let live = store.site_of(&name("gullrock.example")).unwrap().unwrap();
        assert_eq!(states(&live), [HttpsState::Forced]);
        assert_eq!(store.sites_without_cover(Timestamp::UNIX_EPOCH).unwrap(), [name("lanternchoir.example")]);
        let zone = store.zone(&hostname("lanternchoir.example")).unwrap().unwrap();
        assert_eq!((zone.home, zone.pattern, zone.primary), (ZoneHome::Here, None, None));
        assert_eq!(store.accounts().unwrap()[0].plan, None);
        assert_eq!(store.accounts().unwrap()[0].nameserver_set, None);
        assert_eq!(store.all_certificates().unwrap()[0].source, CertificateSource::Ca);
        assert!(store.nameserver_sets().unwrap().is_empty());
        assert!(store.plans().unwrap().is_empty() && store.patterns().unwrap().is_empty());
    }
    // As it was, for the former program.
    let kept = rusqlite::Connection::open(folder.path().join("backups/of-version-1.sqlite")).unwrap();
    assert_eq!(kept.pragma_query_value(None, "user_version", |row| row.get::<_, i64>(0)).unwrap(), 1);
    let sites: i64 = kept.query_row("SELECT count(*) FROM site", [], |row| row.get(0)).unwrap();
    assert_eq!(sites, 2);
}

#[test]
fn plans_are_counted_against_what_an_account_has() {
    let (_folder, mut store) = fresh();
    let plan = AccountPlan {
        name: AccountName::parse("small").unwrap(),
        limits: Limits { addon_domains: Some(1), disk: Some(100), ..Limits::default() },
    };
    let mut alias = site();
    alias.hostnames.extend([name("gullrock.example"), name("www.gullrock.example")]);
    let below = Site { hostnames: vec![name("hall.lanternchoir.example")], kind: SiteKind::Subdomain, ..site() };
    let below = Site { document_root: "/home/choir/www/hall".into(), ..below };
    commit(
        &mut store,
        vec![
            InventoryChange::SetPlan(plan.clone()),
            InventoryChange::AddAccount(Account { plan: Some(plan.name.clone()), ..account() }),
            InventoryChange::AddSite(alias.clone()),
            InventoryChange::AddSite(below),
        ],
    )
    .unwrap();
    assert_eq!(store.plan(&plan.name).unwrap(), Some(plan.clone()));
    assert_eq!(store.account(&account().name).unwrap().unwrap().plan, Some(plan.name.clone()));
    let usage = store.usage(&account().name).unwrap();
    assert_eq!((usage.addon_domains, usage.subdomains, usage.alias_domains, usage.redirects), (1, 1, 1, 0));
    // A plan that an account has cannot go, and neither can an account that has sites.
    assert!(commit(&mut store, vec![InventoryChange::RemovePlan(plan)]).is_err());
    assert!(commit(&mut store, vec![InventoryChange::RemoveAccount(account())]).is_err());
    commit(&mut store, vec![InventoryChange::RemoveSite(alias)]).unwrap();
    assert_eq!(store.site_of(&name("gullrock.example")).unwrap(), None);
    assert_eq!(store.usage(&account().name).unwrap().alias_domains, 0);
}

#[test]
fn document_roots_that_lie_in_one_another_are_found_by_key() {
    let (_folder, mut store) = fresh();
    commit(&mut store, vec![InventoryChange::AddAccount(account()), InventoryChange::AddSite(site())]).unwrap();
    let shares = |path: &str| store.site_sharing(std::path::Path::new(path)).unwrap().is_some();
    let root = "/home/choir/www/lanternchoir.example";
    assert!(shares(root) && shares(&format!("{root}/hall")) && shares("/home/choir/www"));
    assert!(!shares("/home/choir/www/lanternchoir.example2") && !shares("/home/choir/ww") && !shares("/srv"));
    let found = |names: &[&str]| store.first_known(names.iter().map(|text| hostname(text))).unwrap();
    assert_eq!(found(&["a.example", "www.lanternchoir.example"]), Some(hostname("www.lanternchoir.example")));
    assert_eq!(found(&["a.example", "b.example"]), None);
}

#[test]
fn certificates_that_others_took_the_place_of_are_remembered_until_their_files_are_gone() {
    let (_folder, mut store) = fresh();
    let certificate = |number: u8, source| Certificate {
        site: name("lanternchoir.example"),
        names: site().hostnames,
        files: CertificateFiles { folder: format!("/harbor/certificates/lanternchoir.example/{number}").into() },
        not_before: "2026-11-23T07:00:00Z".parse().unwrap(),
        not_after: format!("2026-12-0{number}T07:00:00Z").parse().unwrap(),
        state: CertificateState::Installed,
        source,
        details: CertificateDetails::default(),
    };
    let record = |number, source| InventoryChange::RecordCertificate(certificate(number, source));
    let former = |store: &Store, day: &str| -> Vec<String> {
        let all = store.former_certificates(format!("2026-12-{day}T08:00:00Z").parse().unwrap(), 10).unwrap();
        all.iter().map(|one| one.files.folder().file_name().unwrap().to_string_lossy().into_owned()).collect()
    };
    use CertificateSource::{Ca, Imported, SelfSigned};
    commit(&mut store, vec![InventoryChange::AddAccount(account()), InventoryChange::AddSite(site())]).unwrap();
    commit(&mut store, vec![record(3, SelfSigned), record(2, Ca), record(1, Imported), record(4, Ca)]).unwrap();
    // Recorded once more as served: nothing has taken its place.
    commit(&mut store, vec![record(4, Ca)]).unwrap();
    assert_eq!(former(&store, "09"), ["2", "3"], "what was imported is nobody's to clear away");
    assert_eq!(former(&store, "02"), ["2"]);
    assert_eq!(former(&store, "01"), [""; 0]);
    // Installed again after all; then gone with its site.
    commit(&mut store, vec![record(2, Ca)]).unwrap();
    assert_eq!(former(&store, "09"), ["3", "4"]);
    commit(&mut store, vec![InventoryChange::RemoveSite(site())]).unwrap();
    assert_eq!(former(&store, "09"), ["2", "3", "4"]);
    let folder = certificate(3, Ca).files.folder;
    commit(&mut store, vec![InventoryChange::ForgetCertificate { folder }]).unwrap();
    assert_eq!(former(&store, "09"), ["2", "4"]);
}

#[test]
fn what_is_to_be_revoked_is_known_until_the_ca_was_told() {
    let (_folder, mut store) = fresh();
    let revocation = |number: u8, reason| Revocation {
        site: name("lanternchoir.example"),
        files: CertificateFiles { folder: format!("/harbor/certificates/lanternchoir.example/{number}").into() },
        ca: "default".into(),
        reason,
        not_after: "2027-02-01T07:00:00Z".parse().unwrap(),
    };
    let (first, second) =
        (revocation(1, RevocationReason::Unspecified), revocation(2, RevocationReason::KeyCompromise));
    let remember = |one: &Revocation| InventoryChange::RememberRevocation(one.clone());
    commit(&mut store, vec![remember(&second), remember(&first)]).unwrap();
    assert_eq!(store.revocations().unwrap(), [first.clone(), second.clone()]);
    // Asked for once more, with a reason: the later one holds.
    let again = revocation(1, RevocationReason::Superseded);
    commit(&mut store, vec![remember(&again)]).unwrap();
    assert_eq!(store.revocation_of(&name("lanternchoir.example")).unwrap(), Some(again));
    assert_eq!(store.revocation_of(&name("gullrock.example")).unwrap(), None);
    let folder = first.files.folder().to_path_buf();
    commit(&mut store, vec![InventoryChange::ForgetRevocation { folder, told: true }]).unwrap();
    assert_eq!(store.revocations().unwrap(), [second]);
}

#[test]
fn a_name_that_pauses_holds_up_no_other_and_is_over_with_its_certificate() {
    let (_folder, mut store) = fresh();
    let [main, alias] = ["lanternchoir.example", "notyet.example"].map(name);
    let mut with_alias = Site { hostnames: vec![main.clone(), alias.clone()], ..site() };
    with_alias.https.set(&main, HttpsState::Forced);
    let pause = NamePause {
        name: alias.clone().into(),
        site: main.clone(),
        since: Timestamp::from_second(100).unwrap(),
        not_before: Timestamp::from_second(700).unwrap(),
        reason: "no such name".into(),
    };
    let [during, after] = [200, 700].map(|second| Timestamp::from_second(second).unwrap());
    commit(&mut store, vec![InventoryChange::AddAccount(account()), InventoryChange::AddSite(with_alias.clone())])
        .unwrap();
    assert_eq!(store.sites_without_cover(during).unwrap(), std::slice::from_ref(&main));
    commit(&mut store, vec![InventoryChange::Pause(pause.clone())]).unwrap();
    assert!(store.sites_without_cover(during).unwrap().is_empty());
    assert_eq!(store.sites_without_cover(after).unwrap(), std::slice::from_ref(&main));
    assert_eq!(store.all_pauses(during).unwrap(), std::slice::from_ref(&pause));
    assert!(store.all_pauses(after).unwrap().is_empty());
    assert_eq!(store.pauses_of(&main).unwrap(), std::slice::from_ref(&pause));
    let without = with_alias.without_hosts(&[alias]);
    commit(&mut store, vec![InventoryChange::ReplaceSite { before: with_alias, after: without.clone() }]).unwrap();
    assert!(store.pauses_of(&main).unwrap().is_empty(), "a name that is detached does not pause");
    commit(&mut store, vec![InventoryChange::Pause(pause), InventoryChange::RemoveSite(without)]).unwrap();
    assert!(store.sites_without_cover(after).unwrap().is_empty());
}

#[test]
fn a_limit_of_alias_domains_is_kept_under_its_new_name() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("inventory.sqlite");
    drop(Store::create(&path).unwrap());
    let old = rusqlite::Connection::open(&path).unwrap();
    let limits = r#"{"addon-domains":null,"subdomains":null,"parked-domains":3,"redirects":null,"disk":null}"#;
    old.execute("INSERT INTO plan VALUES ('small', $1), ('none', '{}')", [limits]).unwrap();
    old.execute_batch(
        "DROP TABLE notice; DROP TABLE handover; ALTER TABLE zone DROP COLUMN prepared; ALTER TABLE zone DROP COLUMN loaded; ALTER TABLE \
         zone DROP COLUMN signing; ALTER TABLE former_certificate DROP COLUMN revoked",
    )
    .unwrap();
    old.pragma_update(None, "user_version", 10).unwrap();
    drop(old);
    let plans = Store::open(&path).unwrap().plans().unwrap();
    let kept: Vec<(&str, Option<u32>)> =
        plans.iter().map(|one| (one.name.as_str(), one.limits.alias_domains)).collect();
    assert_eq!(kept, [("none", None), ("small", Some(3))]);
}
