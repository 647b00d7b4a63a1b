//! The harbor as a decision sees it: the inventory and the files, with what the same command has decided on top, and the
//! answers of the network.
//!
//! A decision is made without the harbor's lock, and made again under it if something has changed meanwhile. So an overlay
//! remembers which files it has read, and every question to the network is asked once: under the lock only answers that
//! are known already are given. Loaders (`load`) read through it; the door (`door`) makes it.

use std::any::Any;
use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::future::Future;
use std::net::SocketAddr;
use std::ops::Deref;
use std::path::{Path, PathBuf};
use std::rc::Rc;

use brightharbor_core::account::{Account, AccountName, AccountPlan, Usage};
use brightharbor_core::change::{ChangeSet, ExistingFile, InventoryChange, content_hash};
use brightharbor_core::harbor::Settings;
use brightharbor_core::name::{DnsName, Host, Hostname};
use brightharbor_core::site::Site;
use brightharbor_core::zone::{KeptZone, Zone, ZoneHome, ZonePlace, newest_serial, own_servers};

use crate::decided::Decided;
use crate::harbor::Harbor;
use crate::install::{FileError, read_if_there};
use crate::master_file::{Includes, parse_file};
use crate::server::served_serials;
use crate::store::{StoreError, nearest_zone, nearest_zone_above};
use crate::zones::{ZoneReadError, read_file_at, read_zone_file, transfer_zone, where_kept};

/// What the network has answered so far, by what was asked.
#[derive(Default)]
pub struct Answers {
    known: RefCell<HashMap<String, Rc<dyn Any>>>,
    /// DNS servers that did not answer: they are waited for once.
    silent: RefCell<HashSet<SocketAddr>>,
}

/// The files that were read, with the hash of their content; `None`: there was none.
#[derive(Debug, Default, Clone, PartialEq, Eq)]
pub struct FilesRead(BTreeMap<PathBuf, Option<String>>);

impl FilesRead {
    /// Whether all of them are as they were.
    pub fn are_unchanged(&self) -> bool {
        let same = |(path, hash): (&PathBuf, &Option<String>)| {
            read_if_there(path).is_ok_and(|content| content.as_deref().map(content_hash) == *hash)
        };
        self.0.iter().all(same)
    }
}

/// More names than that in one command come from a list, and are not typed by hand.
const MANY: usize = 200;

/// One look at the harbor.
pub struct Overlay<'a> {
    harbor: &'a Harbor,
    /// Those of the harbor, with the nameserver sets that were decided in the same command.
    pub settings: Settings,
    /// What was decided in the same command.
    decided: Decided,
    answers: &'a Answers,
    /// Whether the network may be asked what is not known yet.
    may_ask: bool,
    missed: Cell<bool>,
    /// Whether this is about so many names that each by itself is not looked at closely.
    for_many: Cell<bool>,
    read: RefCell<FilesRead>,
}

/// The network may not be asked now, and the answer is not known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the answer of a server is needed that was not asked before")]
pub struct NotAsked;

impl Deref for Overlay<'_> {
    type Target = Harbor;
    fn deref(&self) -> &Harbor {
        self.harbor
    }
}

impl<'a> Overlay<'a> {
    pub fn new(harbor: &'a Harbor, answers: &'a Answers) -> Self {
        Self {
            harbor,
            settings: harbor.settings.clone(),
            decided: Decided::default(),
            answers,
            may_ask: true,
            missed: Cell::new(false),
            for_many: Cell::new(false),
            read: RefCell::default(),
        }
    }

    /// Under the lock: only what was asked before is answered.
    pub fn without_asking(harbor: &'a Harbor, answers: &'a Answers) -> Self {
        Self { may_ask: false, ..Self::new(harbor, answers) }
    }

    /// Puts on top what was decided.
    pub fn take(&mut self, set: &ChangeSet) {
        for change in set.inventory_changes() {
            let sets = &mut self.settings.nameserver_sets;
            match change {
                InventoryChange::SetNameservers { name, after, .. } => drop(sets.insert(name.clone(), after.clone())),
                InventoryChange::RemoveNameservers { name, .. } => drop(sets.remove(name)),
                _ => {}
            }
        }
        self.decided.take(set);
    }

    /// Whether a command has made that nameserver set, this one or an earlier one: then it does not stand in harbor.toml.
    pub fn has_own_set(&self, name: &str) -> Result<bool, StoreError> {
        Ok(!self.harbor.settings.nameserver_sets.contains_key(name) && self.settings.nameserver_sets.contains_key(name)
            || self.store.nameserver_sets()?.contains_key(name))
    }

    /// So many names are about to be decided on.
    pub fn note_many(&self, names: usize) {
        self.for_many.set(names > MANY);
    }

    pub fn is_for_many(&self) -> bool {
        self.for_many.get()
    }

    /// Whether something was asked for that is not known and could not be asked.
    pub fn has_missed(&self) -> bool {
        self.missed.get()
    }

    pub fn into_files_read(self) -> FilesRead {
        self.read.into_inner()
    }

    /// The answer to a question to the network. It is asked once for a command, whatever it is asked for again.
    pub async fn ask<T: Clone + 'static>(
        &self,
        question: &str,
        asking: impl Future<Output = T>,
    ) -> Result<T, NotAsked> {
        self.ask_for(question, async { Ok(asking.await) }).await
    }

    /// The same where asking may fail: only an answer is kept, so that a failure is asked about again.
    async fn ask_for<T: Clone + 'static, E: From<NotAsked>>(
        &self,
        question: &str,
        asking: impl Future<Output = Result<T, E>>,
    ) -> Result<T, E> {
        let known = self.answers.known.borrow().get(question).cloned();
        if let Some(answer) = known.and_then(|known| known.downcast_ref::<T>().cloned()) {
            return Ok(answer);
        }
        if !self.may_ask {
            self.missed.set(true);
            return Err(NotAsked.into());
        }
        let answer = asking.await?;
        self.answers.known.borrow_mut().insert(question.to_string(), Rc::new(answer.clone()));
        Ok(answer)
    }

    /// A file, with what was decided about it.
    pub fn file(&self, path: &Path) -> Result<ExistingFile, FileError> {
        if let Some(decided) = self.decided.file(path) {
            return Ok(decided.map(<[u8]>::to_vec));
        }
        let content = read_if_there(path)?;
        let hash = content.as_deref().map(content_hash);
        self.read.borrow_mut().0.insert(path.to_path_buf(), hash);
        Ok(content)
    }

    /// The web server's file of a site.
    pub fn site_file(&self, site: &Site) -> Result<ExistingFile, FileError> {
        self.file(&self.layout.site_file(self.settings.web.server, site.main()))
    }

    pub fn account(&self, name: &AccountName) -> Result<Option<Account>, StoreError> {
        self.decided.account(name).map_or_else(|| self.store.account(name), Ok)
    }

    pub fn plan(&self, name: &AccountName) -> Result<Option<AccountPlan>, StoreError> {
        self.decided.plan(name).map_or_else(|| self.store.plan(name), Ok)
    }

    /// What an account may have and has, where it has a plan. Counting takes the longer the more an account has.
    pub fn limit(&self, name: &AccountName) -> Result<Option<(AccountPlan, Usage)>, StoreError> {
        let plan = self.account(name)?.and_then(|account| account.plan);
        match plan.map(|plan| self.plan(&plan)).transpose()?.flatten() {
            Some(plan) => Ok(Some((plan, self.store.usage(name)?))),
            None => Ok(None),
        }
    }

    pub fn site_of(&self, name: &Host) -> Result<Option<Site>, StoreError> {
        self.decided.site_of(name).map_or_else(|| self.store.site_of(name), Ok)
    }

    pub fn zone(&self, name: &Hostname) -> Result<Option<Zone>, StoreError> {
        self.decided.zone(name).map_or_else(|| self.store.zone(name), Ok)
    }

    /// The nearest zone that holds the hostname: its own or that of an ancestor.
    pub fn enclosing_zone(&self, name: &Hostname) -> Result<Option<Zone>, StoreError> {
        nearest_zone(name.clone(), |name| self.zone(name))
    }

    /// The same for an owner of records, which need be no hostname (`_dmarc`).
    pub fn zone_holding(&self, owner: &DnsName) -> Result<Option<Zone>, StoreError> {
        nearest_zone_above(owner, |name| self.zone(name))
    }

    /// The serials that our servers have of a zone.
    pub async fn served_serials(&self, zone: &Hostname) -> Result<Vec<(SocketAddr, u32)>, NotAsked> {
        let asking = async {
            let mut servers: Vec<SocketAddr> = own_servers(&self.settings).iter().map(|one| one.address).collect();
            servers.retain(|server| !self.answers.silent.borrow().contains(server));
            let (serials, silent) = served_serials(&servers, zone).await;
            self.answers.silent.borrow_mut().extend(silent);
            serials
        };
        self.ask(&format!("the serials of the zone {zone}"), asking).await
    }

    /// The zone as it is kept, with what was decided about it; `None` for one that somebody else keeps.
    pub async fn kept_zone(&self, zone: &Zone) -> Result<Option<KeptZone>, ZoneReadError> {
        match zone.home {
            ZoneHome::Elsewhere => Ok(None),
            _ => self.read_zone(zone).await.map(Some),
        }
    }

    /// A zone that the server has from its own configuration, in that file.
    pub async fn read_where_it_is(&self, zone: &Zone, file: Option<&Path>) -> Result<KeptZone, ZoneReadError> {
        let asking = where_kept(&self.settings, zone);
        match self.ask_for(&format!("where is the zone {} kept", zone.name), asking).await? {
            None => {
                let path = file.map_or_else(|| self.layout.zone_file(&zone.name), Path::to_path_buf);
                read_file_at(self.harbor, zone, path.clone(), self.file(&path)?)
            }
            Some((server, key_file)) => {
                let question = format!("transfer the zone {} from {server}", zone.name);
                self.ask_for(&question, transfer_zone(zone, server, &key_file)).await
            }
        }
    }

    /// The zone as it is kept, to be changed. One that a server holds is transferred once.
    pub async fn read_zone(&self, zone: &Zone) -> Result<KeptZone, ZoneReadError> {
        let path = self.layout.zone_file(&zone.name);
        if let Some(Some(content)) = self.decided.file(&path) {
            let includes = Includes::OfServer(self.settings.dns.directory.as_deref());
            let document = parse_file(content.to_vec(), &zone.name.dns_name(), includes)
                .map_err(|error| ZoneReadError::Unreadable { path: path.clone(), error: Box::new(error) })?;
            return Ok(KeptZone { zone: zone.clone(), document, place: ZonePlace::File { path } });
        }
        let asking = where_kept(&self.settings, zone);
        match self.ask_for(&format!("where is the zone {} kept", zone.name), asking).await? {
            None => {
                let newest =
                    newest_serial(self.served_serials(&zone.name).await?.into_iter().map(|(_, serial)| serial));
                let kept = read_zone_file(self.harbor, zone, self.file(&path)?)?;
                Ok(KeptZone { document: kept.document.seen_with(newest), ..kept })
            }
            Some((server, key_file)) => {
                let question = format!("transfer the zone {} from {server}", zone.name);
                self.ask_for(&question, transfer_zone(zone, server, &key_file)).await
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::store::Store;
    use brightharbor_core::change::{FileWrite, InventoryChange, Purpose};
    use brightharbor_core::harbor::{Layout, Settings};
    use brightharbor_core::site::{HttpsStates, SiteKind, SiteRules};

    fn harbor(folder: &Path) -> Harbor {
        let layout = Layout::new(folder);
        Store::create(&layout.inventory()).unwrap();
        Harbor::open(folder, Settings::default()).unwrap()
    }

    fn site(names: &[&str]) -> Site {
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: names.iter().map(|name| Host::parse(name).unwrap()).collect(),
            document_root: "/home/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    #[test]
    fn what_was_decided_lies_over_what_is_there() {
        let folder = tempfile::tempdir().unwrap();
        let (harbor, answers) = (harbor(folder.path()), Answers::default());
        let mut overlay = Overlay::new(&harbor, &answers);
        let path = folder.path().join("file");
        std::fs::write(&path, "as it is").unwrap();
        assert_eq!(overlay.file(&path).unwrap().as_deref(), Some(&b"as it is"[..]));
        let (both, one) = (site(&["gullrock.example", "quay.example"]), site(&["gullrock.example"]));
        let mut set = ChangeSet::new("test");
        set.file(FileWrite::new(path.clone(), None, "as it will be", 0o644, Purpose::Loose));
        set.inventory(InventoryChange::AddSite(both.clone()));
        overlay.take(&set);
        let quay = Host::parse("quay.example").unwrap();
        assert_eq!(overlay.file(&path).unwrap().as_deref(), Some(&b"as it will be"[..]));
        assert_eq!(overlay.site_of(&quay).unwrap(), Some(both.clone()));
        let mut set = ChangeSet::new("test");
        set.inventory(InventoryChange::ReplaceSite { before: both, after: one.clone() });
        overlay.take(&set);
        assert_eq!(overlay.site_of(&quay).unwrap(), None);
        let mut set = ChangeSet::new("test");
        set.inventory(InventoryChange::RemoveSite(one));
        overlay.take(&set);
        assert_eq!(overlay.site_of(&Host::parse("gullrock.example").unwrap()).unwrap(), None);
    }

    #[test]
    fn a_file_that_somebody_touches_is_noticed_whether_it_was_there_or_not() {
        let folder = tempfile::tempdir().unwrap();
        let (harbor, answers) = (harbor(folder.path()), Answers::default());
        let (there, none) = (folder.path().join("there"), folder.path().join("none"));
        std::fs::write(&there, "one").unwrap();
        let read = || {
            let overlay = Overlay::new(&harbor, &answers);
            overlay.file(&there).unwrap();
            overlay.file(&none).unwrap();
            overlay.into_files_read()
        };
        assert!(read().are_unchanged());
        let before = read();
        std::fs::write(&none, "").unwrap();
        assert!(!before.are_unchanged());
        let before = read();
        std::fs::write(&there, "two").unwrap();
        assert!(!before.are_unchanged());
    }

    #[tokio::test]
    async fn the_network_is_asked_once_and_never_under_the_lock() {
        let folder = tempfile::tempdir().unwrap();
        let (harbor, answers) = (harbor(folder.path()), Answers::default());
        let asked = Cell::new(0);
        let ask = async || {
            asked.set(asked.get() + 1);
            7_u32
        };
        let free = Overlay::new(&harbor, &answers);
        assert_eq!((free.ask("serial", ask()).await, free.ask("serial", ask()).await), (Ok(7), Ok(7)));
        let locked = Overlay::without_asking(&harbor, &answers);
        assert_eq!((locked.ask("serial", ask()).await, locked.has_missed()), (Ok(7), false));
        assert_eq!((locked.ask("another serial", ask()).await, locked.has_missed()), (Err(NotAsked), true));
        assert_eq!(asked.get(), 1);
    }
}
