//! What a command has decided so far, found by key: thousands of decisions of one command look at what those before them
//! decided.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use brightharbor_core::account::{Account, AccountName, AccountPlan};
use brightharbor_core::change::{Change, ChangeSet, InventoryChange};
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::site::Site;
use brightharbor_core::zone::Zone;

/// The inner `None` of each: it is there no more.
#[derive(Default)]
pub struct Decided {
    files: HashMap<PathBuf, Option<Vec<u8>>>,
    accounts: HashMap<AccountName, Option<Account>>,
    plans: HashMap<AccountName, Option<AccountPlan>>,
    zones: HashMap<Hostname, Option<Zone>>,
    /// By each of its names.
    sites: HashMap<Host, Option<Site>>,
}

impl Decided {
    pub fn take(&mut self, set: &ChangeSet) {
        for change in &set.changes {
            match change {
                Change::WriteFile(write) => {
                    self.files.insert(write.path.clone(), Some(write.content.to_vec()));
                }
                Change::RemoveFile(removal) => {
                    self.files.insert(removal.path.clone(), None);
                }
                Change::Inventory { to } => self.take_inventory(to),
                _ => {}
            }
        }
    }

    fn take_inventory(&mut self, change: &InventoryChange) {
        use InventoryChange as To;
        match change {
            To::AddAccount(account) | To::ReplaceAccount { after: account, .. } => {
                self.accounts.insert(account.name.clone(), Some(account.clone()));
            }
            To::RemoveAccount(account) => {
                self.accounts.insert(account.name.clone(), None);
            }
            To::SetPlan(plan) => {
                self.plans.insert(plan.name.clone(), Some(plan.clone()));
            }
            To::RemovePlan(plan) => {
                self.plans.insert(plan.name.clone(), None);
            }
            To::AddZone(zone) | To::ReplaceZone { after: zone, .. } => {
                self.zones.insert(zone.name.clone(), Some(zone.clone()));
            }
            To::RemoveZone(zone) => {
                self.zones.insert(zone.name.clone(), None);
            }
            To::AddSite(site) => self.put_site(site),
            To::RemoveSite(site) => self.drop_names(site),
            To::ReplaceSite { before, after } => {
                self.drop_names(before);
                self.put_site(after);
            }
            _ => {}
        }
    }

    fn put_site(&mut self, site: &Site) {
        self.sites.extend(site.hostnames.iter().map(|name| (name.clone(), Some(site.clone()))));
    }

    fn drop_names(&mut self, site: &Site) {
        self.sites.extend(site.hostnames.iter().map(|name| (name.clone(), None)));
    }

    /// What it will hold; the outer `None`: nothing was decided about it.
    pub fn file(&self, path: &Path) -> Option<Option<&[u8]>> {
        self.files.get(path).map(Option::as_deref)
    }

    pub fn account(&self, name: &AccountName) -> Option<Option<Account>> {
        self.accounts.get(name).cloned()
    }

    pub fn plan(&self, name: &AccountName) -> Option<Option<AccountPlan>> {
        self.plans.get(name).cloned()
    }

    pub fn zone(&self, name: &Hostname) -> Option<Option<Zone>> {
        self.zones.get(name).cloned()
    }

    pub fn site_of(&self, name: &Host) -> Option<Option<Site>> {
        self.sites.get(name).cloned()
    }
}
