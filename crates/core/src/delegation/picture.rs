//! The whole picture of one domain's delegation, as the rules and the survey read it.

use std::net::{IpAddr, SocketAddr};

use jiff::Timestamp;
use serde::Serialize;

use super::brief::Cuts;
use super::chain::Chain;
use super::dnssec::{Ds, Key, Signature};
use super::signed::SetFlaw;
use crate::name::{DnsName, Hostname, is_registrable};
use crate::zone::{Record, Soa};

/// What the walk has seen of one domain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Picture {
    pub domain: DnsName,
    pub registered: Registered,
    /// The zone above, as far as it was reached.
    pub parent_zone: DnsName,
    /// The servers of the parent, whether they delegate the domain or not.
    #[serde(skip)]
    pub parent_servers: Vec<SocketAddr>,
    /// What each server of the parent says.
    pub parent: Vec<ParentAnswer>,
    /// Each nameserver that the parent names, and what its servers say.
    pub nameservers: Vec<NameserverSeen>,
    /// The start of authority of the parent zone, where it was asked for.
    pub parent_soa: Option<Soa>,
    /// The DS records at the parent.
    pub ds: Vec<Ds>,
    /// Whether what the parent says of them can be relied on.
    pub chain: Chain,
    /// The cuts passed on the way down, with the servers found there.
    #[serde(skip)]
    pub cuts: Cuts,
    /// When the last of it was seen.
    pub seen_at: Option<Timestamp>,
    pub questions: usize,
}

impl Picture {
    /// The picture of something that has no delegation to ask about.
    pub fn unasked(domain: DnsName) -> Self {
        Self {
            domain,
            registered: Registered::Unknown("nobody was asked".into()),
            parent_zone: DnsName::root(),
            parent_servers: vec![],
            parent: vec![],
            nameservers: vec![],
            parent_soa: None,
            ds: vec![],
            chain: Chain::Unasked,
            cuts: Cuts::new(),
            seen_at: None,
            questions: 0,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Registered {
    /// The parent has a delegation for the domain.
    Yes,
    /// The parent says that there is no such delegation.
    No,
    /// The parent could not be asked: why.
    Unknown(String),
}

/// The answer of one server of the parent zone about the domain.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ParentAnswer {
    pub server: SocketAddr,
    /// The names in the delegation, sorted; empty with a problem.
    pub nameservers: Vec<DnsName>,
    /// TTL of the delegation in seconds.
    pub ttl: u32,
    /// The addresses that came along.
    pub glue: Vec<Record>,
    /// Addresses of names that are no nameservers of the domain, or that this zone cannot know.
    pub stray: Vec<Record>,
    pub tcp: Reached,
    /// The serial of the parent zone that it has, where it was asked.
    pub serial: Option<u32>,
    /// What went wrong with this server.
    pub problem: Option<String>,
    /// Whether it says that there is no such delegation.
    pub denies: bool,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct NameserverSeen {
    pub name: DnsName,
    /// The addresses that the parent gives for it.
    pub glue: Vec<IpAddr>,
    /// Its addresses where they are looked up the ordinary way; empty if it does not resolve.
    pub addresses: Vec<IpAddr>,
    /// The name that it is an alias of; a nameserver must not be one.
    pub alias: Option<DnsName>,
    pub servers: Vec<ServerSeen>,
}

/// One nameserver at one address.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ServerSeen {
    pub address: SocketAddr,
    pub state: ServerState,
    pub probed: Probed,
    /// The answers for the hostnames that were asked along.
    pub hosts: Vec<HostAnswer>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ServerState {
    /// Answers with authority.
    Authoritative {
        serial: u32,
        nameservers: Vec<DnsName>,
    },
    /// Answers, but not with authority for this zone (lame, RFC 9499 section 7).
    NotAuthoritative,
    /// Says with authority that there is no such name: it holds a zone above alone.
    NoSuchDomain,
    /// Says with authority that the domain is an alias.
    ApexAlias {
        target: DnsName,
    },
    /// Answers with authority out of a zone of another name.
    OtherZone {
        zone: DnsName,
    },
    Refuses {
        rcode: String,
    },
    Silent,
    Unreachable {
        reason: String,
    },
    /// This host has no address of that family.
    NoRoute,
    Garbled {
        reason: String,
    },
    /// Not asked: the address is none of the internet.
    OutOfPlace {
        kind: String,
    },
}

impl ServerState {
    /// Whether it answers for the domain as it should.
    pub fn has_authority(&self) -> bool {
        matches!(self, ServerState::Authoritative { .. })
    }

    /// In a few words, for a table.
    pub fn words(&self) -> String {
        match self {
            ServerState::Authoritative { serial, .. } => format!("authority, serial {serial}"),
            ServerState::NotAuthoritative => "without authority".into(),
            ServerState::NoSuchDomain => "says: no such name".into(),
            ServerState::ApexAlias { target } => format!("alias of {}", target.bare()),
            ServerState::OtherZone { zone } if zone.is_root() => "answers from zone .".into(),
            ServerState::OtherZone { zone } => format!("answers from zone {}", zone.bare()),
            ServerState::Refuses { rcode } if rcode == "SERVFAIL" => "fails (SERVFAIL)".into(),
            ServerState::Refuses { rcode } => format!("refuses ({rcode})"),
            ServerState::Silent => "silent".into(),
            ServerState::Unreachable { reason } => format!("unreachable: {reason}"),
            ServerState::NoRoute => "not asked".into(),
            ServerState::Garbled { reason } => format!("no DNS answer: {reason}"),
            ServerState::OutOfPlace { kind } => format!("not asked: {kind}"),
        }
    }
}

/// What else was seen of a server; what was not asked is as by default.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Probed {
    pub soa: Option<Soa>,
    /// The TTL of the NS records in the zone.
    pub ns_ttl: Option<u32>,
    pub udp: Reached,
    pub tcp: Reached,
    /// Whether it knows EDNS.
    pub edns: Option<bool>,
    /// Whether it looks up names of others for us.
    pub recursion: bool,
    /// Whether it gives the whole zone away.
    pub transfer: bool,
    pub keys: Vec<Key>,
    pub signatures: Vec<Signature>,
    /// What a validating resolver would not accept of it; only where the parent has DS records for a key of it.
    pub flaws: Vec<SetFlaw>,
}

/// Whether a server answers over one transport.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reached {
    #[default]
    Unasked,
    Works,
    Failed(String),
}

/// What one server says about a hostname of the zone.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct HostAnswer {
    pub hostname: DnsName,
    pub addresses: Vec<Address>,
    /// The names of an alias chain, in order.
    pub aliases: Vec<DnsName>,
    /// Whether the server says that the name does not exist.
    pub no_such_name: bool,
    /// How long a "no such name" may be cached, in seconds.
    pub negative_ttl: Option<u32>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Address {
    pub address: IpAddr,
    pub ttl: u32,
}

impl Picture {
    /// The delegation as the parent gives it: the first answer without a problem.
    pub fn delegation(&self) -> Option<&ParentAnswer> {
        self.parent.iter().find(|answer| answer.problem.is_none())
    }

    pub fn delegated_names(&self) -> Vec<DnsName> {
        self.delegation().map(|answer| answer.nameservers.clone()).unwrap_or_default()
    }

    /// Whether a registry has it, as far as the list of public suffixes knows: no reverse zone, and none below somebody's
    /// domain, which the zone above delegates by records.
    pub fn is_in_registry(&self) -> bool {
        Hostname::parse_zone(&self.domain.bare()).is_ok_and(|name| is_registrable(&name) && !name.is_reverse())
    }

    /// Every nameserver at every address.
    pub fn servers(&self) -> impl Iterator<Item = (&NameserverSeen, &ServerSeen)> {
        self.nameservers.iter().flat_map(|nameserver| nameserver.servers.iter().map(move |server| (nameserver, server)))
    }

    /// Those that answer with authority.
    pub fn authoritative_servers(&self) -> impl Iterator<Item = (&NameserverSeen, &ServerSeen)> {
        self.servers().filter(|(_, server)| matches!(server.state, ServerState::Authoritative { .. }))
    }

    /// The families that this host lacks, by the addresses that it could not ask: IPv4, IPv6.
    pub fn lacking_families(&self) -> (bool, bool) {
        let lacking = || self.servers().filter(|(_, server)| server.state == ServerState::NoRoute);
        let of = |v4: bool| lacking().any(|(_, server)| server.address.is_ipv4() == v4);
        (of(true), of(false))
    }

    /// The zones that were passed on the way down and the domain's own, with the servers to ask.
    pub fn zones(&self) -> Cuts {
        let own = self.authoritative_servers().map(|(_, server)| server.address).collect();
        let mut zones = self.cuts.clone();
        zones.insert(self.domain.clone(), own);
        zones
    }
}
