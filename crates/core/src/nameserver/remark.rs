//! What decisions about nameserver sets have to tell.

use std::net::IpAddr;

use jiff::Timestamp;

use crate::name::{DnsName, Hostname};

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NameserverRemark {
    Added {
        set: String,
        nameservers: Vec<DnsName>,
    },
    Removed {
        set: String,
    },
    Weakness(Weakness),
    /// Its name lies in a zone that somebody else keeps: the addresses are to be entered there.
    EnterElsewhere {
        nameserver: DnsName,
        zone: Hostname,
    },
    /// The host object that has to be registered.
    RegisterHost {
        domain: Hostname,
        nameserver: DnsName,
        addresses: Vec<IpAddr>,
    },
    /// A nameserver moves to other addresses.
    Moves(Move),
    /// A nameserver joins a set that so many domains are delegated to.
    Joins {
        moved: Move,
        set: String,
        domains: u32,
    },
    Leaves {
        nameserver: DnsName,
        set: String,
        domains: u32,
    },
    Capacity {
        set: String,
        domains: u32,
    },
    /// How many domains are delegated to the set; their delegations stay as they are.
    Delegated {
        set: String,
        domains: u32,
    },
}

/// The steps of moving a nameserver, in their order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Move {
    pub nameserver: DnsName,
    pub before: Vec<IpAddr>,
    pub after: Vec<IpAddr>,
    /// The zone of this harbor that its name lies in, which is changed now.
    pub zone: Option<Hostname>,
    /// Where the host object is changed.
    pub domain: Option<Hostname>,
    /// Until when resolvers may have the old addresses from the zone.
    pub cached_until: Timestamp,
}

/// What makes a set fail easily.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Weakness {
    /// When it fails, all domains of the set are gone.
    OnlyOne(DnsName),
    SameAddress {
        nameservers: Vec<DnsName>,
        address: IpAddr,
    },
    OneNetwork,
    /// It must resolve without our help.
    NoAddress(DnsName),
}
