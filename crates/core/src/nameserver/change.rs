//! The decisions to add, change and remove nameserver sets; what must follow a server that moves, in which order, and until
//! when its old address must keep answering.

use std::net::SocketAddr;

use jiff::{SignedDuration, Timestamp};

use super::{Member, Move, NameserverRefusal, NameserverRemark, align_addresses, set_of, weaknesses};
use crate::account::AccountName;
use crate::change::{Consent, InventoryChange, Plan, Remark};
use crate::delegation::{Outcome, Reply};
use crate::harbor::NameserverSet;
use crate::name::{DnsName, Hostname, domain_above};
use crate::zone::{KeptZone, Zone, ZoneHome, ZoneRemark, default_ttl, serial_date};

/// What registries give glue for, in seconds, where the parent could not be asked: two days.
const GLUE_TTL: u32 = 172_800;

/// A set as it is known.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KnownSet {
    /// Made by a command.
    Own(NameserverSet),
    /// Of harbor.toml.
    OfSettings,
    Unknown,
}

/// The zone that a nameserver's name lies in: as the inventory knows it, and read, where it can be changed from here.
#[derive(Debug, Clone)]
pub struct MemberZone {
    pub zone: Zone,
    pub kept: Option<KeptZone>,
}

/// The zones that the names of a set lie in, each once.
#[derive(Debug, Clone, Default)]
pub struct MemberZones(pub Vec<MemberZone>);

impl MemberZones {
    fn of(&self, name: &DnsName) -> Option<&MemberZone> {
        let within = |zone: &&MemberZone| name.is_within(&zone.zone.name.dns_name());
        self.0.iter().filter(within).max_by_key(|zone| zone.zone.name.as_str().len())
    }
}

/// A new set as asked for.
#[derive(Debug, Clone)]
pub struct AddSet {
    pub name: AccountName,
    pub members: Vec<Member>,
    pub account: Option<AccountName>,
    pub capacity: Option<u32>,
}

/// Decides a new set, with its addresses in the zones of this harbor.
pub fn add_set(
    request: &AddSet,
    known: &KnownSet,
    account_is_there: bool,
    zones: &MemberZones,
    now: Timestamp,
) -> Result<Plan, NameserverRefusal> {
    let name = request.name.to_string();
    if *known != KnownSet::Unknown {
        return Err(NameserverRefusal::Exists(name));
    }
    if let Some(account) = request.account.as_ref().filter(|_| !account_is_there) {
        return Err(NameserverRefusal::UnknownAccount(account.clone()));
    }
    let (capacity, account) = (request.capacity, request.account.clone());
    let set = NameserverSet { capacity, account, ..set_of(&request.members) };
    let mut plan = Plan::new(format!("nameserver add {name}"));
    plan.remark(NameserverRemark::Added { set: name.clone(), nameservers: set.nameservers.clone() });
    for weakness in weaknesses(&set) {
        plan.remark(NameserverRemark::Weakness(weakness));
    }
    bring_addresses(&set, zones, now, &mut plan)?;
    for (nameserver, addresses) in &set.addresses {
        if let Some(domain) = domain_above(nameserver) {
            let (nameserver, addresses) = (nameserver.clone(), addresses.clone());
            plan.remark(NameserverRemark::RegisterHost { domain, nameserver, addresses });
        }
    }
    plan.set.inventory(InventoryChange::SetNameservers { name, before: None, after: set });
    Ok(plan)
}

/// Changes of a set as asked for.
#[derive(Debug, Clone)]
pub struct ChangeSet {
    pub name: String,
    /// Nameservers of the set with their new addresses.
    pub members: Vec<Member>,
    /// Nameservers that join it.
    pub joining: Vec<Member>,
    /// Those that leave it.
    pub leaving: Vec<DnsName>,
    pub capacity: Option<u32>,
}

/// What a nameserver answered at a new address when it was asked for a zone of the set.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReadySeen {
    pub nameserver: DnsName,
    pub server: SocketAddr,
    pub zone: Hostname,
    pub outcome: Outcome,
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct ChangeSetLoaded {
    pub known: KnownSet,
    pub zones: MemberZones,
    /// The answers at the new addresses; none where no zone is delegated to the set yet.
    pub seen: Vec<ReadySeen>,
    /// How many domains are delegated to the set.
    pub domains: u32,
}

/// The members of a change that really move or join: those that have to be ready before.
pub fn moving<'a>(before: &NameserverSet, request: &'a ChangeSet) -> Vec<&'a Member> {
    let is_there = |member: &Member| before.nameservers.contains(&member.name);
    let moves = |member: &&Member| match before.addresses.get(&member.name) {
        Some(old) => !member.addresses.is_empty() && *old != member.addresses,
        None => !is_there(member) || !member.addresses.is_empty(),
    };
    request.members.iter().chain(&request.joining).filter(moves).collect()
}

/// Decides other addresses or another capacity.
pub fn change_set(request: &ChangeSet, loaded: &ChangeSetLoaded, now: Timestamp) -> Result<Plan, NameserverRefusal> {
    let before = own(&request.name, &loaded.known)?;
    let mut after = NameserverSet { capacity: request.capacity.or(before.capacity), ..before.clone() };
    let mut plan = Plan::new(format!("nameserver change {}", request.name));
    let named = request.members.iter().map(|member| &member.name).chain(&request.leaving);
    if let Some(strange) = named.into_iter().find(|name| !before.nameservers.contains(name)) {
        let (set, nameserver) = (request.name.clone(), strange.clone());
        return Err(NameserverRefusal::UnknownMember { set, nameserver });
    }
    for member in moving(before, request) {
        let zone = loaded.zones.of(&member.name);
        let joins = !before.nameservers.contains(&member.name);
        let moved = Move {
            nameserver: member.name.clone(),
            before: before.addresses.get(&member.name).cloned().unwrap_or_default(),
            after: member.addresses.clone(),
            zone: zone.map(|zone| zone.zone.name.clone()),
            domain: domain_above(&member.name),
            cached_until: cached_until(&member.name, zone, now),
        };
        if joins {
            after.nameservers.push(member.name.clone());
            plan.remark(NameserverRemark::Joins { moved, set: request.name.clone(), domains: loaded.domains });
        } else {
            plan.remark(NameserverRemark::Moves(moved));
        }
        if !member.addresses.is_empty() {
            after.addresses.insert(member.name.clone(), member.addresses.clone());
        }
    }
    for name in &request.leaving {
        after.nameservers.retain(|other| other != name);
        after.addresses.remove(name);
        let (nameserver, set) = (name.clone(), request.name.clone());
        plan.remark(NameserverRemark::Leaves { nameserver, set, domains: loaded.domains });
    }
    if after.nameservers.is_empty() {
        return Err(NameserverRefusal::NoneLeft { set: request.name.clone() });
    }
    for weakness in weaknesses(&after).into_iter().filter(|one| !weaknesses(before).contains(one)) {
        plan.remark(NameserverRemark::Weakness(weakness));
    }
    for ReadySeen { nameserver, server, zone, outcome } in &loaded.seen {
        if !serves(outcome) {
            let (nameserver, zone, outcome) = (nameserver.clone(), zone.clone(), outcome.clone());
            plan.needs_consent(Consent::ServerNotReady { nameserver, server: *server, zone, outcome });
        }
    }
    if after == *before {
        plan.remark(Remark::Unchanged);
        return Ok(plan);
    }
    bring_addresses(&after, &loaded.zones, now, &mut plan)?;
    if let Some(domains) = after.capacity.filter(|_| after.capacity != before.capacity) {
        plan.remark(NameserverRemark::Capacity { set: request.name.clone(), domains });
    }
    if after.nameservers == before.nameservers {
        plan.remark(NameserverRemark::Delegated { set: request.name.clone(), domains: loaded.domains });
    }
    let (name, before) = (request.name.clone(), Some(before.clone()));
    plan.set.inventory(InventoryChange::SetNameservers { name, before, after });
    Ok(plan)
}

/// Decides that a set goes, which only happens while nothing uses it.
pub fn remove_set(name: &str, known: &KnownSet, zones: u32, accounts: u32) -> Result<Plan, NameserverRefusal> {
    let set = own(name, known)?.clone();
    if zones + accounts > 0 {
        return Err(NameserverRefusal::InUse { set: name.to_string(), zones, accounts });
    }
    let mut plan = Plan::new(format!("nameserver remove {name}"));
    plan.remark(NameserverRemark::Removed { set: name.to_string() });
    plan.set.inventory(InventoryChange::RemoveNameservers { name: name.to_string(), set });
    Ok(plan)
}

fn own<'a>(name: &str, known: &'a KnownSet) -> Result<&'a NameserverSet, NameserverRefusal> {
    match known {
        KnownSet::Own(set) => Ok(set),
        KnownSet::OfSettings => Err(NameserverRefusal::InSettings(name.to_string())),
        KnownSet::Unknown => Err(NameserverRefusal::Unknown(name.to_string())),
    }
}

fn serves(outcome: &Outcome) -> bool {
    matches!(outcome, Outcome::Reply(reply) if reply.authoritative && reply.rcode == Reply::NOERROR)
}

/// Until when resolvers may still have the old address from the zone.
fn cached_until(name: &DnsName, zone: Option<&MemberZone>, now: Timestamp) -> Timestamp {
    let ttl = zone.and_then(|zone| zone.kept.as_ref()).map(|kept| {
        let present = kept.document.records().filter(|r| r.owner == *name && r.data.address().is_some());
        present.map(|record| record.ttl).max().unwrap_or_else(|| default_ttl(&kept.document))
    });
    now.checked_add(SignedDuration::from_secs(ttl.unwrap_or(GLUE_TTL).into())).unwrap_or(now)
}

/// Writes the addresses of the set's names into the zones that they lie in; and says what others must do.
fn bring_addresses(
    set: &NameserverSet,
    zones: &MemberZones,
    now: Timestamp,
    plan: &mut Plan,
) -> Result<(), NameserverRefusal> {
    let mut to_align: Vec<&KeptZone> = Vec::new();
    for nameserver in &set.nameservers {
        let Some(MemberZone { zone, kept }) = zones.of(nameserver) else { continue };
        if !set.addresses.contains_key(nameserver) {
            let (nameserver, zone) = (nameserver.clone(), zone.name.clone());
            return Err(NameserverRefusal::NoAddress { nameserver, zone });
        }
        match kept {
            None if zone.home == ZoneHome::Elsewhere => {
                let (nameserver, zone) = (nameserver.clone(), zone.name.clone());
                plan.remark(NameserverRemark::EnterElsewhere { nameserver, zone });
            }
            Some(kept) if !to_align.iter().any(|other| other.zone.name == kept.zone.name) => to_align.push(kept),
            _ => {}
        }
    }
    for kept in to_align {
        let zone = || kept.zone.name.clone();
        let refuses = |error| NameserverRefusal::ZoneRefuses { zone: zone(), error };
        if let Some(aligned) = align_addresses(kept, set, serial_date(now)).map_err(refuses)? {
            plan.change(aligned.change);
            for record in aligned.removed {
                plan.remark(ZoneRemark::RecordRemoved { zone: zone(), record });
            }
            for record in aligned.added {
                plan.remark(ZoneRemark::RecordAdded { zone: zone(), record });
            }
        }
    }
    Ok(())
}

#[cfg(test)]
#[path = "change_tests.rs"]
mod tests;
