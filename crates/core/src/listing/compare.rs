//! What has to be done so that a harbor has what a listing names: single steps in the words of the commands, in an order in
//! which each finds what it needs. What is there already as it is wanted is no step.

use std::collections::{BTreeMap, BTreeSet};

use super::redirects::redirects;
use super::sets::{SetSteps, sets};
use super::sites::sites;
use super::{ListedAccount, Listing};
use crate::account::{
    Account, AccountName, AddAccount, ChangeAccount, LimitWishes, Limits, UserWish, check_email, check_system_user,
};
use crate::harbor::NameserverSet;
use crate::name::Host;
use crate::nameserver::{AddSet, ChangeSet};
use crate::redirect::{AddRedirects, Source};
use crate::site::{AttachRequest, ChangeSite, Site};

/// What the harbor has.
#[derive(Debug, Clone, Default)]
pub struct Present {
    pub plans: BTreeMap<AccountName, Limits>,
    pub accounts: BTreeMap<AccountName, Account>,
    /// Those that commands have made; the ones of harbor.toml are not for a listing.
    pub sets: BTreeMap<AccountName, NameserverSet>,
    pub sites: Vec<Site>,
}

/// One thing to do.
#[derive(Debug, Clone)]
pub enum Step {
    /// A new plan, or other limits of one.
    Plan {
        name: AccountName,
        is_new: bool,
        limits: LimitWishes,
    },
    AddAccount(AddAccount),
    ChangeAccount(AccountName, ChangeAccount),
    AddSet(AddSet),
    ChangeSet(ChangeSet),
    HandOver {
        site: Host,
        to: AccountName,
    },
    Attach(AttachRequest),
    ChangeSite(Host, ChangeSite),
    Detach {
        site: Host,
        names: Vec<Host>,
    },
    RemoveRedirect(Source),
    AddRedirect(AddRedirects),
}

/// How many of a table come, change, stay and go.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    pub added: usize,
    pub changed: usize,
    pub same: usize,
    pub gone: usize,
}

#[derive(Debug, Clone, Default)]
pub struct Compared {
    pub steps: Vec<Step>,
    pub plans: Counts,
    pub accounts: Counts,
    pub nameserver_sets: Counts,
    pub sites: Counts,
    pub redirects: Counts,
    /// Sites whose HSTS has to wait until all their names are served over https.
    pub later: Vec<Host>,
}

/// What cannot be understood, and in which entry of the file.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{entry}: {reason}")]
pub struct ListingError {
    pub entry: String,
    pub reason: String,
}

/// Says what has to be done.
pub fn compare(listing: &Listing, present: &Present) -> Result<Compared, ListingError> {
    let mut compared = Compared::default();
    plans(listing, present, &mut compared);
    let SetSteps { early, after_accounts, after_sites, late } = sets(listing, present, &mut compared)?;
    compared.steps.extend(early);
    let mut taking = Vec::new();
    accounts(listing, present, &late, &mut compared, &mut taking)?;
    add_sets(after_accounts, &mut taking, &mut compared);
    let by_name: BTreeMap<&Host, &Site> =
        present.sites.iter().flat_map(|site| site.hostnames.iter().map(move |name| (name, site))).collect();
    sites(listing, present, &by_name, &mut compared)?;
    add_sets(after_sites, &mut taking, &mut compared);
    redirects(listing, present, &by_name, &mut compared)?;
    Ok(compared)
}

pub(super) fn wrong<E: ToString>(entry: String) -> impl FnOnce(E) -> ListingError {
    move |error| ListingError { entry, reason: error.to_string() }
}

fn plans(listing: &Listing, present: &Present, compared: &mut Compared) {
    for (name, listed) in &listing.plans {
        let (limits, found) = (Limits::from(*listed), present.plans.get(name));
        match found {
            Some(found) if *found == limits => compared.plans.same += 1,
            Some(_) => compared.plans.changed += 1,
            None => compared.plans.added += 1,
        }
        if found != Some(&limits) {
            let is_new = found.is_none();
            compared.steps.push(Step::Plan { name: name.clone(), is_new, limits: LimitWishes::all(limits) });
        }
    }
}

/// An account that gets a set which has to be made before.
struct Taking {
    account: AccountName,
    set: String,
}

impl Taking {
    fn step(self) -> Step {
        let change = ChangeAccount { nameserver_set: Some(Some(self.set)), ..ChangeAccount::default() };
        Step::ChangeAccount(self.account, change)
    }
}

/// Each set, and then the accounts that take it.
fn add_sets(sets: Vec<Step>, taking: &mut Vec<Taking>, compared: &mut Compared) {
    for step in sets {
        let now: Vec<Taking> = match &step {
            Step::AddSet(set) => taking.extract_if(.., |one| one.set == set.name.as_str()).collect(),
            _ => vec![],
        };
        compared.steps.push(step);
        compared.steps.extend(now.into_iter().map(Taking::step));
    }
}

fn accounts(
    listing: &Listing,
    present: &Present,
    late: &BTreeSet<String>,
    compared: &mut Compared,
    taking: &mut Vec<Taking>,
) -> Result<(), ListingError> {
    let mut left: Vec<(&AccountName, &ListedAccount)> = listing.accounts.iter().collect();
    // A reseller comes before those that it sold; a circle is refused where it is decided.
    let mut known: BTreeSet<&AccountName> = present.accounts.keys().collect();
    while !left.is_empty() {
        let is_ready = |(_, listed): &(&AccountName, &ListedAccount)| {
            listed.reseller.as_ref().is_none_or(|one| known.contains(one))
        };
        let at = left.iter().position(is_ready).unwrap_or(0);
        let (name, listed) = left.remove(at);
        known.insert(name);
        let mut listed = listed.clone();
        if let Some(set) = listed.nameserver_set.take_if(|set| late.contains(set)) {
            taking.push(Taking { account: name.clone(), set });
        }
        account(name, &listed, present.accounts.get(name), compared)?;
    }
    Ok(())
}

fn account(
    name: &AccountName,
    listed: &ListedAccount,
    found: Option<&Account>,
    compared: &mut Compared,
) -> Result<(), ListingError> {
    let entry = || format!("accounts.{name}");
    check_email(&listed.email).map_err(wrong(entry()))?;
    listed.system_user.as_deref().map(check_system_user).transpose().map_err(wrong(entry()))?;
    let user = |name: &String| UserWish { name: Some(name.clone()), create: false };
    let Some(found) = found else {
        compared.accounts.added += 1;
        compared.steps.push(Step::AddAccount(AddAccount {
            name: name.clone(),
            email: listed.email.clone(),
            home: listed.home.clone(),
            existing: listed.existing,
            user: listed.system_user.as_ref().map(user).unwrap_or_default(),
            plan: listed.plan.clone(),
            nameserver_set: listed.nameserver_set.clone(),
            reseller: listed.reseller.clone(),
            domain: None,
        }));
        return Ok(());
    };
    let differs =
        |wanted: &Option<AccountName>, found: &Option<AccountName>| wanted.clone().filter(|_| wanted != found);
    let change = ChangeAccount {
        email: Some(listed.email.clone()).filter(|email| *email != found.email),
        plan: differs(&listed.plan, &found.plan).map(Some),
        nameserver_set: listed
            .nameserver_set
            .clone()
            .filter(|_| listed.nameserver_set != found.nameserver_set)
            .map(Some),
        reseller: differs(&listed.reseller, &found.reseller).map(Some),
        user: listed.system_user.as_ref().filter(|_| listed.system_user != found.system_user).map(user),
        home: listed.home.clone().filter(|home| *home != found.home),
    };
    if change.is_empty() {
        compared.accounts.same += 1;
    } else {
        compared.accounts.changed += 1;
        compared.steps.push(Step::ChangeAccount(name.clone(), change));
    }
    Ok(())
}

impl Compared {
    /// The names that would be attached to each account, to be checked against its plan as a whole.
    pub fn attaching(&self) -> BTreeMap<&AccountName, Vec<AttachRequest>> {
        let mut all: BTreeMap<&AccountName, Vec<AttachRequest>> = BTreeMap::new();
        for step in &self.steps {
            if let Step::Attach(request) = step {
                all.entry(&request.account).or_default().push(request.clone());
            }
        }
        all
    }
}
