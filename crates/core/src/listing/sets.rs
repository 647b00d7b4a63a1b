//! Nameserver sets of a listing against those of the harbor, and when in the order of steps each is made: accounts name sets,
//! sets name accounts, and addresses of their names belong into zones that come with sites.

use std::collections::BTreeSet;

use super::compare::{Compared, ListingError, Present, Step, wrong};
use super::{ListedSet, Listing};
use crate::account::AccountName;
use crate::harbor::NameserverSet;
use crate::name::DnsName;
use crate::nameserver::{AddSet, ChangeSet, Member, set_of};

/// The steps of sets, by what has to be there before.
#[derive(Debug, Default)]
pub(super) struct SetSteps {
    pub early: Vec<Step>,
    /// Sets that are for one account.
    pub after_accounts: Vec<Step>,
    /// Sets whose names lie in domains of this file.
    pub after_sites: Vec<Step>,
    /// New sets that are not there yet when accounts are made.
    pub late: BTreeSet<String>,
}

pub(super) fn sets(listing: &Listing, present: &Present, compared: &mut Compared) -> Result<SetSteps, ListingError> {
    let mut steps = SetSteps::default();
    for (name, listed) in &listing.nameserver_sets {
        let entry = || format!("nameserver-sets.{name}");
        let read = listed.nameservers.iter().map(|typed| typed.parse());
        let members: Vec<Member> = read.collect::<Result<_, _>>().map_err(wrong(entry()))?;
        if members.is_empty() {
            return Err(ListingError { entry: entry(), reason: "it names no nameservers".into() });
        }
        let Some(found) = present.sets.get(name) else {
            compared.nameserver_sets.added += 1;
            place(new(name, listed, members), listing, &mut steps);
            continue;
        };
        if listed.account.is_some() && listed.account != found.account {
            let reason = "a set stays with its account: remove it, and add it for the other one".into();
            return Err(ListingError { entry: entry(), reason });
        }
        let change = changed(name, listed, members, found);
        match is_nothing(&change) {
            true => compared.nameserver_sets.same += 1,
            false => {
                compared.nameserver_sets.changed += 1;
                steps.after_sites.push(Step::ChangeSet(change));
            }
        }
    }
    Ok(steps)
}

fn new(name: &AccountName, listed: &ListedSet, members: Vec<Member>) -> AddSet {
    AddSet { name: name.clone(), members, account: listed.account.clone(), capacity: listed.capacity }
}

fn place(set: AddSet, listing: &Listing, steps: &mut SetSteps) {
    let domains: Vec<DnsName> = listing.sites.keys().filter_map(|host| host.dns_name()).collect();
    let in_domain = |member: &Member| domains.iter().any(|domain| member.name.is_within(domain));
    let (of_domain, of_account) = (set.members.iter().any(in_domain), set.account.is_some());
    if of_domain || of_account {
        steps.late.insert(set.name.to_string());
    }
    let among = match (of_domain, of_account) {
        (true, _) => &mut steps.after_sites,
        (false, true) => &mut steps.after_accounts,
        (false, false) => &mut steps.early,
    };
    among.push(Step::AddSet(set));
}

/// What differs; addresses and a capacity that are not named stay.
fn changed(name: &AccountName, listed: &ListedSet, members: Vec<Member>, found: &NameserverSet) -> ChangeSet {
    let wanted = set_of(&members);
    let leaving = found.nameservers.iter().filter(|name| !wanted.nameservers.contains(name)).cloned().collect();
    let (there, joining): (Vec<Member>, Vec<Member>) =
        members.into_iter().partition(|member| found.nameservers.contains(&member.name));
    let moves = |member: &Member| {
        let mut addresses = member.addresses.clone();
        addresses.sort();
        !addresses.is_empty() && found.addresses.get(&member.name) != Some(&addresses)
    };
    ChangeSet {
        name: name.to_string(),
        members: there.into_iter().filter(moves).collect(),
        joining,
        leaving,
        capacity: listed.capacity.filter(|_| listed.capacity != found.capacity),
    }
}

fn is_nothing(change: &ChangeSet) -> bool {
    change.members.is_empty() && change.joining.is_empty() && change.leaving.is_empty() && change.capacity.is_none()
}

/// As the listing of a harbor has it.
pub(super) fn listed_set(set: &NameserverSet) -> ListedSet {
    let typed = |name: &DnsName| {
        let addresses = set.addresses.get(name).map(Vec::as_slice).unwrap_or_default();
        let addresses: Vec<String> = addresses.iter().map(ToString::to_string).collect();
        if addresses.is_empty() { name.bare() } else { format!("{}={}", name.bare(), addresses.join(",")) }
    };
    ListedSet {
        nameservers: set.nameservers.iter().map(typed).collect(),
        account: set.account.clone(),
        capacity: set.capacity,
    }
}
