//! What registry, zone and server each say of a nameserver, asked directly, against the addresses that its set gives it;
//! how far its registration is, and what is to be done next. Asked by `io/src/host_look.rs`.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use crate::delegation::ServerState;
use crate::name::DnsName;

/// A nameserver as it was seen on all sides.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostSeen {
    pub name: DnsName,
    /// The addresses that the set gives it; none: it resolves without our help.
    pub wanted: Vec<IpAddr>,
    /// The domain that its name lies in; `None`: that is not known.
    pub domain: Option<DnsName>,
    /// Whether a domain is delegated to it, and the name lies in that domain: then nobody finds it without the registry.
    pub needs_glue: bool,
    /// Whether a domain that was looked at is delegated to it.
    pub is_named: bool,
    /// Each server of the zone above its domain.
    pub registry: Vec<Said>,
    /// Each server of its own domain.
    pub zone: Vec<Said>,
    /// The server itself at each of its addresses, asked for a zone.
    pub servers: Vec<Answering>,
}

/// The addresses that one server gives for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Said {
    pub server: SocketAddr,
    pub addresses: BTreeSet<IpAddr>,
    /// Why it said nothing.
    pub failed: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answering {
    pub server: SocketAddr,
    pub zone: DnsName,
    pub state: ServerState,
}

/// How far the registration of a nameserver is. Of several, the gravest counts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Registration {
    /// No server of the registry could be asked.
    Unseen(String),
    /// No server has an address for it. Nobody sees from outside whether it is registered before a domain is delegated to
    /// it.
    Absent,
    /// It is found without the registry.
    NotNeeded,
    /// Some servers of the registry have it as it is wanted, and others do not yet.
    Spreading {
        having: usize,
        servers: usize,
    },
    /// They have some of its addresses, or other ones.
    Differs {
        missing: Vec<IpAddr>,
        strange: Vec<IpAddr>,
    },
    Complete,
}

/// What its own zone says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum InZone {
    /// The domain is delegated to nobody who answers.
    Unseen,
    /// Servers of the zone that do not say what is wanted, with the addresses that they lack and those that are not wanted.
    Differs {
        missing: Vec<IpAddr>,
        strange: Vec<IpAddr>,
        servers: usize,
    },
    Complete,
}

/// What is to be done, in the order in which it is done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NextStep {
    /// The server has to answer there first.
    StartServer { server: SocketAddr, zone: DnsName, state: ServerState },
    /// Its addresses have to be entered in the zone.
    EnterInZone { domain: DnsName, missing: Vec<IpAddr>, strange: Vec<IpAddr> },
    /// A host object has to be made at the registrar.
    Register { domain: DnsName, addresses: Vec<IpAddr> },
    /// A host object has to be given other addresses.
    GiveAddresses { domain: DnsName, addresses: Vec<IpAddr> },
    /// The registry is publishing it.
    Wait,
}

impl HostSeen {
    pub fn registration(&self) -> Registration {
        let told: Vec<&Said> = self.registry.iter().filter(|said| said.failed.is_none()).collect();
        let Some(first) = told.first() else {
            let why = self.registry.iter().find_map(|said| said.failed.clone());
            return Registration::Unseen(why.unwrap_or_else(|| "nobody was asked".into()));
        };
        let wanted: BTreeSet<IpAddr> = match self.wanted.is_empty() {
            false => self.wanted.iter().copied().collect(),
            // Whatever is there is right, so long as all say the same.
            true => first.addresses.clone(),
        };
        if told.iter().all(|said| said.addresses.is_empty()) {
            let found = self.zone.iter().any(|said| !said.addresses.is_empty());
            let without = !self.needs_glue && (self.is_named || self.wanted.is_empty()) && found;
            return if without { Registration::NotNeeded } else { Registration::Absent };
        }
        let having = told.iter().filter(|said| said.addresses == wanted).count();
        if having == told.len() {
            return Registration::Complete;
        }
        if having > 0 {
            return Registration::Spreading { having, servers: told.len() };
        }
        let (missing, strange) = differing(&wanted, &told);
        Registration::Differs { missing, strange }
    }

    pub fn in_zone(&self) -> InZone {
        let told: Vec<&Said> = self.zone.iter().filter(|said| said.failed.is_none()).collect();
        let Some(first) = told.first() else { return InZone::Unseen };
        let wanted: BTreeSet<IpAddr> = match self.wanted.is_empty() {
            false => self.wanted.iter().copied().collect(),
            true => first.addresses.clone(),
        };
        let (missing, strange) = differing(&wanted, &told);
        let servers = told.iter().filter(|said| said.addresses != wanted).count();
        let nothing = wanted.is_empty();
        if servers == 0 && !nothing { InZone::Complete } else { InZone::Differs { missing, strange, servers } }
    }

    /// What is to be done, in its order: a server is not registered before it answers.
    pub fn next(&self) -> Vec<NextStep> {
        let mut steps: Vec<NextStep> = self
            .servers
            .iter()
            .filter(|seen| !matches!(seen.state, ServerState::Authoritative { .. } | ServerState::NoRoute))
            .map(|seen| NextStep::StartServer {
                server: seen.server,
                zone: seen.zone.clone(),
                state: seen.state.clone(),
            })
            .collect();
        let Some(domain) = self.domain.clone() else { return steps };
        match self.in_zone() {
            InZone::Differs { missing, strange, .. } if !self.wanted.is_empty() => {
                steps.push(NextStep::EnterInZone { domain: domain.clone(), missing, strange });
            }
            _ => {}
        }
        let addresses = self.wanted.clone();
        match self.registration() {
            Registration::Absent if !addresses.is_empty() => steps.push(NextStep::Register { domain, addresses }),
            Registration::Differs { .. } if !addresses.is_empty() => {
                steps.push(NextStep::GiveAddresses { domain, addresses });
            }
            Registration::Spreading { .. } => steps.push(NextStep::Wait),
            _ => {}
        }
        steps
    }

    /// Whether it is as it should be on all sides.
    pub fn holds(&self) -> bool {
        matches!(self.registration(), Registration::Complete | Registration::NotNeeded)
            && self.in_zone() == InZone::Complete
            && !self.servers.is_empty()
            && self.next().is_empty()
    }

    /// Whether nothing is wrong with it, and its registration is what is left.
    pub fn waits(&self) -> bool {
        let left = |step: &NextStep| matches!(step, NextStep::Register { .. } | NextStep::Wait);
        !self.holds() && !self.needs_glue && !self.next().is_empty() && self.next().iter().all(left)
    }
}

/// The addresses that one of them lacks, and those that one of them has in surplus.
fn differing(wanted: &BTreeSet<IpAddr>, told: &[&Said]) -> (Vec<IpAddr>, Vec<IpAddr>) {
    let missing: BTreeSet<IpAddr> = told.iter().flat_map(|said| wanted - &said.addresses).collect();
    let strange: BTreeSet<IpAddr> = told.iter().flat_map(|said| &said.addresses - wanted).collect();
    (missing.into_iter().collect(), strange.into_iter().collect())
}

#[cfg(test)]
#[path = "sides_tests.rs"]
mod tests;
