//! What happens when the harbor changes between the decision and the lock.

use std::cell::{Cell, RefCell};
use std::path::Path;

use brightharbor_core::account::AccountPlan;
use brightharbor_core::account::{AccountName, Limits};
use brightharbor_core::change::{Consent, FileWrite, InventoryChange, Purpose};
use brightharbor_core::harbor::{Layout, Settings};

use super::*;
use crate::store::Store;

#[derive(Debug)]
enum Refused {
    Door(DoorError),
    Consent,
}

impl From<DoorError> for Refused {
    fn from(error: DoorError) -> Self {
        Refused::Door(error)
    }
}

/// What somebody else does.
type Meanwhile = Box<dyn FnOnce(&Path)>;

/// A harbor, and somebody else who changes it while a plan is looked at.
struct World {
    folder: tempfile::TempDir,
    dry_run: bool,
    shown: bool,
    /// How often a plan was put before somebody.
    asked: Cell<u32>,
    consents: bool,
    meanwhile: RefCell<Vec<Meanwhile>>,
}

impl Manner<Refused> for World {
    fn is_dry_run(&self) -> bool {
        self.dry_run
    }

    fn is_shown(&self) -> bool {
        self.shown
    }

    fn consent(&self, plan: &Plan) -> Result<(), Refused> {
        self.asked.set(self.asked.get() + 1);
        if let Some(meanwhile) = self.meanwhile.borrow_mut().pop() {
            meanwhile(self.folder.path());
        }
        if plan.consents.is_empty() || self.consents { Ok(()) } else { Err(Refused::Consent) }
    }
}

impl World {
    fn new(shown: bool) -> Self {
        let folder = tempfile::tempdir().unwrap();
        Store::create(&Layout::new(folder.path()).inventory()).unwrap();
        std::fs::create_dir(Layout::new(folder.path()).kept()).unwrap();
        std::fs::write(folder.path().join("file"), "one").unwrap();
        let (asked, meanwhile) = (Cell::new(0), RefCell::default());
        Self { folder, dry_run: false, shown, asked, consents: true, meanwhile }
    }

    fn meanwhile(&self, happens: impl FnOnce(&Path) + 'static) {
        self.meanwhile.borrow_mut().push(Box::new(happens));
    }

    /// Adds a letter to the file, and remembers how many plans there are by a further one.
    async fn run(&self) -> Result<(Changed, usize), Refused> {
        let open =
            || Harbor::open(self.folder.path(), Settings::default()).map_err(|error| Refused::Door(error.into()));
        let door = Door { open: &open, tell: &|_| () };
        change(&door, "test", self, async |overlay, _| {
            let path = self.folder.path().join("file");
            let before = overlay.file(&path).unwrap();
            let text = [before.as_deref().unwrap_or_default(), b"+"].concat();
            let plans = overlay.store.plans().unwrap().len();
            let mut plan = Plan::new("test");
            plan.set.file(FileWrite::new(path, before, text, 0o644, Purpose::Loose));
            let name = AccountName::parse(&format!("plan{plans}")).unwrap();
            plan.set.inventory(InventoryChange::SetPlan(AccountPlan { name, limits: Limits::default() }));
            if plans > 1 {
                plan.needs_consent(Consent::ClosesCaAccount { ca: "default".into() });
            }
            Ok((plan, plans))
        })
        .await
    }

    fn file(&self) -> String {
        std::fs::read_to_string(self.folder.path().join("file")).unwrap()
    }
}

/// Somebody else's command, which makes a plan.
fn other_command(folder: &Path, name: &str) {
    let mut harbor = Harbor::open(folder, Settings::default()).unwrap();
    let mut set = brightharbor_core::change::ChangeSet::new("other");
    let name = AccountName::parse(name).unwrap();
    set.inventory(InventoryChange::SetPlan(AccountPlan { name, limits: Limits::default() }));
    let entry = harbor.store.next_entry().unwrap();
    harbor.store.begin(entry, clock::now(), "somebody", &set, &[]).unwrap();
    harbor.store.commit(entry, &set).unwrap();
}

#[tokio::test]
async fn what_nobody_has_touched_is_carried_out_as_it_was_decided() {
    let world = World::new(true);
    let (changed, plans) = world.run().await.unwrap();
    assert_eq!((changed.entry, plans, world.asked.get(), world.file().as_str()), (Some(1), 0, 1, "one+"));
    let dry = World { dry_run: true, ..World::new(true) };
    let (changed, _) = dry.run().await.unwrap();
    assert_eq!((changed.entry, dry.asked.get(), dry.file().as_str()), (None, 0, "one"));
}

#[tokio::test]
async fn a_script_gets_what_is_decided_under_the_lock_and_a_person_is_shown_it_again() {
    for (shown, asked) in [(false, 2), (true, 2)] {
        let world = World::new(shown);
        world.meanwhile(|folder| std::fs::write(folder.join("file"), "two").unwrap());
        let (changed, _) = world.run().await.unwrap();
        assert_eq!((world.file().as_str(), world.asked.get()), ("two+", asked));
        assert!(changed.entry.is_some());
    }
    let world = World::new(false);
    world.meanwhile(|folder| other_command(folder, "small"));
    let (changed, plans) = world.run().await.unwrap();
    assert_eq!((changed.entry, plans), (Some(2), 1));
}

#[tokio::test]
async fn a_consent_that_comes_up_meanwhile_is_not_taken_for_given() {
    let world = World { consents: false, ..World::new(false) };
    world.meanwhile(|folder| {
        other_command(folder, "small");
        other_command(folder, "large");
    });
    assert!(matches!(world.run().await, Err(Refused::Consent)));
    assert_eq!(world.file(), "one");
}

#[tokio::test]
async fn what_never_stands_still_is_given_up() {
    let world = World::new(true);
    for number in 0..20 {
        world.meanwhile(move |folder| std::fs::write(folder.join("file"), number.to_string()).unwrap());
    }
    assert!(matches!(world.run().await, Err(Refused::Door(DoorError::KeepsChanging))));
    assert_eq!(world.asked.get(), MOST_TRIES as u32);
}

#[tokio::test]
async fn what_a_killed_command_has_left_is_taken_back_before_anything_is_read() {
    let world = World::new(false);
    let harbor = Harbor::open(world.folder.path(), Settings::default()).unwrap();
    let path = world.folder.path().join("file");
    let inverse = crate::store::Inverse::Remove {
        path: path.clone(),
        wrote_hash: brightharbor_core::change::content_hash(b"one"),
    };
    let set = brightharbor_core::change::ChangeSet::new("killed");
    harbor.store.begin(1, clock::now(), "somebody", &set, &[inverse]).unwrap();
    drop(harbor);
    let dry = World { dry_run: true, ..world };
    dry.run().await.unwrap();
    assert_eq!(dry.file(), "one", "a dry run takes nothing back");
    let world = World { dry_run: false, ..dry };
    let (changed, _) = world.run().await.unwrap();
    assert_eq!((changed.entry, world.file().as_str()), (Some(2), "+"));
}
