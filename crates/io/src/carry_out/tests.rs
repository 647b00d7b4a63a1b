//! Carrying out on real files, with a web server whose test is a command of ours: done whole, or taken back whole.

use std::fs;

use brightharbor_core::account::{Account, AccountName};
use brightharbor_core::change::{
    CaErrand, Change, ChangeSet, FileWrite, FolderMake, InventoryChange, Purpose, ServicePlacing, ToldToCa,
};
use brightharbor_core::harbor::{Layout, Service, Settings, WebServer};
use brightharbor_core::name::Hostname;
use jiff::Timestamp;

use super::*;
use crate::harbor::Harbor;
use crate::store::{EntryOutcome, Store};

struct World {
    folder: tempfile::TempDir,
    harbor: Harbor,
}

fn world(test: &str) -> World {
    let folder = tempfile::tempdir().unwrap();
    let layout = Layout::new(folder.path());
    fs::create_dir_all(layout.site_files(WebServer::Nginx)).unwrap();
    let mut settings = Settings::default();
    settings.web.server = WebServer::Nginx;
    let log = folder.path().join("reloads");
    settings.web.test = ["sh", "-c", test].map(String::from).to_vec();
    settings.web.reload = vec!["sh".into(), "-c".into(), format!("echo reload >> {}", log.display())];
    let store = Store::create(&layout.inventory()).unwrap();
    World { folder, harbor: Harbor { layout, settings, store } }
}

impl World {
    fn path(&self, name: &str) -> std::path::PathBuf {
        self.folder.path().join(name)
    }

    async fn carry(&mut self, set: &ChangeSet) -> Result<i64, CarryError> {
        let lock = take_lock(&self.harbor.layout.lock(), &set.title, std::time::Duration::ZERO, &|_| ()).await.unwrap();
        carry_out(&mut self.harbor, &lock, set, Timestamp::UNIX_EPOCH, &|_| ()).await
    }

    async fn recover(&self, lock: &Lock) -> Vec<Recovered> {
        recover(&self.harbor, lock).await.unwrap()
    }

    fn reloads(&self) -> usize {
        fs::read_to_string(self.path("reloads")).unwrap_or_default().lines().count()
    }

    /// A change of an old site file, a new key, a folder in a home, and an account.
    fn set(&self) -> ChangeSet {
        let site = self.harbor.layout.site_files(WebServer::Nginx).join("gullrock.example.conf");
        fs::write(&site, "old").unwrap();
        let mut set = ChangeSet::new("attach gullrock.example");
        let key = self.path("certificates/gullrock.example/1/key.pem");
        set.file(FileWrite::new(key, None, "KEY", 0o600, Purpose::Key));
        set.file(FileWrite::new(site, Some(b"old".to_vec()), "new", 0o644, Purpose::SiteFile));
        set.changes.push(Change::MakeFolder(FolderMake {
            home: self.path("home"),
            below: "www".into(),
            system_user: None,
            mode: 0o755,
            group: None,
            early: false,
            starter_page: None,
            starter_files: vec![],
        }));
        let name = AccountName::parse("boatyard").unwrap();
        let account = Account::new(name, "yard@gullrock.example", self.path("home"));
        set.inventory(InventoryChange::AddAccount(account));
        set
    }

    fn site_text(&self) -> String {
        fs::read_to_string(self.path("servers/nginx/gullrock.example.conf")).unwrap()
    }
}

#[tokio::test]
async fn a_good_set_is_done_whole_with_one_reload() {
    let mut world = world("true");
    let set = world.set();
    world.carry(&set).await.unwrap();
    assert_eq!((world.site_text().as_str(), world.reloads()), ("new", 1));
    assert!(world.path("home/www").is_dir());
    assert_eq!(world.harbor.store.accounts().unwrap().len(), 1);
    assert_eq!(world.harbor.store.logbook(1).unwrap()[0].outcome, EntryOutcome::Done);
    assert!(!world.path("kept/1").exists(), "a done entry keeps no copies");
}

#[tokio::test]
async fn a_failed_config_test_leaves_the_old_file_and_a_running_server() {
    let mut world = world("echo line 3 is wrong >&2; exit 1");
    let set = world.set();
    let error = world.carry(&set).await.unwrap_err();
    assert!(error.to_string().contains("line 3 is wrong"), "{error}");
    assert_eq!((world.site_text().as_str(), world.reloads()), ("old", 0));
    assert!(!world.path("certificates/gullrock.example/1").exists() && !world.path("home").exists());
    assert_eq!(world.harbor.store.accounts().unwrap().len(), 0);
    assert_eq!(world.harbor.store.logbook(1).unwrap()[0].outcome, EntryOutcome::RolledBack);
}

#[tokio::test]
async fn a_hand_edit_since_reading_refuses_before_anything_begins() {
    let mut world = world("true");
    let set = world.set();
    fs::write(world.path("servers/nginx/gullrock.example.conf"), "edited by hand").unwrap();
    assert!(matches!(world.carry(&set).await, Err(CarryError::ChangedMeanwhile(_))));
    assert_eq!(world.site_text(), "edited by hand");
    assert_eq!(world.harbor.store.logbook(1).unwrap().len(), 0);
}

#[tokio::test]
async fn a_killed_command_is_taken_back_by_the_next_but_a_later_edit_is_not() {
    let mut world = world("true");
    let set = world.set();
    world.carry(&set).await.unwrap();
    // As if the same set had been killed after its files: begun, files written, inventory untouched.
    let inverses = vec![
        crate::store::Inverse::Remove {
            path: world.path("certificates/gullrock.example/1/key.pem"),
            wrote_hash: brightharbor_core::change::content_hash(b"KEY"),
        },
        crate::store::Inverse::Remove {
            path: world.path("certificates/gullrock.example/2/key.pem"),
            wrote_hash: brightharbor_core::change::content_hash(b"KEY"),
        },
        crate::store::Inverse::Restore {
            path: world.path("servers/nginx/gullrock.example.conf"),
            wrote_hash: brightharbor_core::change::content_hash(b"new"),
            kept: world.path("before"),
            mode: 0o644,
        },
        crate::store::Inverse::Remove {
            path: world.path("edited"),
            wrote_hash: brightharbor_core::change::content_hash(b"written"),
        },
    ];
    fs::write(world.path("before"), "old").unwrap();
    fs::write(world.path("edited"), "edited since").unwrap();
    let half = world.path("servers/nginx/.new-half");
    fs::write(&half, "serv").unwrap();
    let begun = world.path("certificates/gullrock.example/2");
    fs::create_dir_all(&begun).unwrap();
    fs::write(begun.join(".new-key"), "KE").unwrap();
    world.harbor.store.begin(2, Timestamp::UNIX_EPOCH, "tester", &set, &inverses).unwrap();
    let lock = take_lock(&world.harbor.layout.lock(), "test", std::time::Duration::ZERO, &|_| ()).await.unwrap();
    let recovered = world.recover(&lock).await;
    assert_eq!(
        recovered,
        [Recovered { title: "attach gullrock.example".into(), left: vec![], again: false, errands: vec![] }]
    );
    assert_eq!((world.site_text().as_str(), world.reloads()), ("old", 2));
    assert!(!world.path("certificates/gullrock.example/1").exists());
    assert_eq!(fs::read_to_string(world.path("edited")).unwrap(), "edited since");
    assert!(!half.exists() && !begun.exists(), "halves of files are cleared away, and their folder");
    assert_eq!(world.recover(&lock).await, []);
}

#[tokio::test]
async fn a_removed_file_is_put_back_when_a_later_step_fails_and_by_the_next_command() {
    use brightharbor_core::change::{Change, FileRemoval};
    let mut world = world("exit 1");
    let site = world.harbor.layout.site_files(WebServer::Nginx).join("gullrock.example.conf");
    fs::write(&site, "served").unwrap();
    let removal = FileRemoval::new(site.clone(), b"served".to_vec(), 0o644, Purpose::SiteFile);
    let mut set = ChangeSet::new("detach gullrock.example");
    set.changes.push(Change::RemoveFile(removal));
    assert!(matches!(world.carry(&set).await, Err(CarryError::RolledBack { .. })));
    assert_eq!(world.site_text(), "served");
    // Removed by a command that was killed before it ended.
    let kept = world.path("before");
    fs::write(&kept, "served").unwrap();
    fs::remove_file(&site).unwrap();
    let inverse = crate::store::Inverse::PutBack { path: site.clone(), kept, mode: 0o644 };
    world.harbor.settings.web.test = vec!["true".into()];
    world.harbor.store.begin(2, Timestamp::UNIX_EPOCH, "tester", &set, &[inverse]).unwrap();
    let lock = take_lock(&world.harbor.layout.lock(), "test", std::time::Duration::ZERO, &|_| ()).await.unwrap();
    assert_eq!(world.recover(&lock).await.len(), 1);
    assert_eq!((world.site_text().as_str(), world.reloads()), ("served", 1));
    drop(lock);
    // One that was edited meanwhile is not removed.
    fs::write(&site, "edited by hand").unwrap();
    assert!(matches!(world.carry(&set).await, Err(CarryError::ChangedMeanwhile(_))));
    assert_eq!(world.site_text(), "edited by hand");
}

/// A certificate for a service whose reload leaves a line, and something that no CA will ever be told.
fn outside(world: &mut World) -> ChangeSet {
    let service = Service {
        hostname: Hostname::parse("mail.gullrock.example").unwrap(),
        folder: world.path("post"),
        owner: None,
        mode: 0o600,
        reload: vec!["sh".into(), "-c".into(), format!("echo told >> {}", world.path("told").display())],
    };
    world.harbor.settings.services.insert("post".into(), service.clone());
    let mut set = ChangeSet::new("certificate install --service post");
    set.changes.push(Change::PlaceForService(ServicePlacing {
        name: "post".into(),
        former: None,
        folder: world.path(".post-1"),
        service,
        chain_pem: "CHAIN".into(),
        key_pem: "KEY".to_string().into(),
    }));
    set.changes.push(Change::TellCa(CaErrand { ca: "lighthouse".into(), told: ToldToCa::Closing }));
    set
}

#[tokio::test]
async fn what_a_service_was_told_is_taken_back_when_a_later_step_fails() {
    let mut world = world("true");
    let set = outside(&mut world);
    let error = world.carry(&set).await.unwrap_err();
    assert!(error.to_string().contains("lighthouse"), "{error}");
    assert!(matches!(error, CarryError::RolledBack { left, .. } if left.is_empty()));
    assert!(!world.path("post").is_symlink() && !world.path(".post-1").exists());
    assert_eq!(fs::read_to_string(world.path("told")).unwrap(), "told\ntold\n", "once more with what it had");
    // Somebody else's folder in the place of the link is noticed before anything begins.
    fs::create_dir(world.path("post")).unwrap();
    assert!(matches!(world.carry(&set).await, Err(CarryError::ChangedMeanwhile(path)) if path == world.path("post")));
}

#[tokio::test]
async fn what_cannot_be_taken_back_yet_is_taken_back_by_a_later_command() {
    let mut world = world("true");
    let set = world.set();
    // The web server refuses, and by then the copy cannot be read: as on a disk that is broken, or full, for a while.
    let (kept, away) = (world.harbor.layout.kept().join("1"), world.path("away"));
    let line = format!("mv {} {}; exit 1", kept.display(), away.display());
    world.harbor.settings.web.test = vec!["sh".into(), "-c".into(), line];
    let error = world.carry(&set).await.unwrap_err();
    assert!(matches!(&error, CarryError::RolledBack { left, again: true, .. } if left.len() == 1), "{error:?}");
    let site = world.harbor.layout.site_files(WebServer::Nginx).join("gullrock.example.conf");
    assert_eq!(fs::read_to_string(&site).unwrap(), "new");
    world.harbor.settings.web.test = vec!["true".into()];
    let lock = take_lock(&world.harbor.layout.lock(), "test", std::time::Duration::ZERO, &|_| ()).await.unwrap();
    let still = world.recover(&lock).await.remove(0);
    assert!(still.again && still.left.len() == 1, "{still:?}");
    assert!(world.harbor.store.has_unfinished().unwrap());
    fs::rename(&away, &kept).unwrap();
    let then = world.recover(&lock).await.remove(0);
    assert_eq!((then.left, then.again), (vec![], false));
    assert_eq!(fs::read_to_string(&site).unwrap(), "old");
    assert!(!world.harbor.store.has_unfinished().unwrap() && !kept.exists());
    assert_eq!(world.recover(&lock).await, []);
}

#[tokio::test]
async fn a_command_that_was_killed_at_a_ca_says_what_is_not_known() {
    let mut world = world("true");
    let set = outside(&mut world);
    world.harbor.store.begin(1, Timestamp::UNIX_EPOCH, "tester", &set, &[]).unwrap();
    let lock = take_lock(&world.harbor.layout.lock(), "test", std::time::Duration::ZERO, &|_| ()).await.unwrap();
    let recovered = world.recover(&lock).await.remove(0);
    let unknown = CaErrand { ca: "lighthouse".into(), told: ToldToCa::Closing };
    assert_eq!((recovered.left, recovered.errands), (vec![], vec![unknown]));
    assert_eq!(world.harbor.store.logbook(1).unwrap()[0].outcome, EntryOutcome::Failed);
}

/// A new account whose command fails after its home was made.
#[tokio::test]
async fn a_home_that_was_made_goes_again_if_nobody_has_put_anything_into_it() {
    for (filled, there_before) in [(false, false), (true, false), (false, true)] {
        let mut world = world("true");
        let home = world.path("home");
        if there_before {
            fs::create_dir(&home).unwrap();
        }
        let mut set = ChangeSet::new("account add boatyard");
        set.changes.push(Change::MakeFolder(FolderMake {
            home: home.clone(),
            below: std::path::PathBuf::new(),
            system_user: None,
            mode: 0o711,
            group: None,
            early: false,
            starter_page: None,
            starter_files: vec![],
        }));
        let put = if filled { format!("echo mine > {}", home.join("file").display()) } else { "true".into() };
        let service = Service {
            hostname: Hostname::parse("mail.gullrock.example").unwrap(),
            folder: world.path("post"),
            owner: None,
            mode: 0o600,
            reload: vec!["sh".into(), "-c".into(), format!("{put}; exit 1")],
        };
        set.changes.push(Change::PlaceForService(ServicePlacing {
            name: "post".into(),
            former: None,
            folder: world.path(".post-1"),
            service,
            chain_pem: "CHAIN".into(),
            key_pem: "KEY".to_string().into(),
        }));
        assert!(matches!(world.carry(&set).await, Err(CarryError::RolledBack { .. })));
        assert_eq!(home.exists(), filled || there_before, "filled: {filled}, there before: {there_before}");
    }
}
