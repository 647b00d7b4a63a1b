//! The way down from the root servers to the servers of a zone's parent, and to the addresses of a name.
//!
//! Every step reads the observations; what is not there yet is put on the list of questions, and the step gives
//! `None`. Asked again with more observations it gets further.

use std::collections::HashSet;
use std::net::{IpAddr, SocketAddr};

use foldhash::fast::RandomState;
use jiff::Timestamp;

use super::brief::{Brief, Cuts};
use super::reach::is_in_place;
use super::{Observations, Outcome, Question, Reply};
use crate::name::DnsName;
use crate::zone::{Record, RecordData, RecordType};

/// Cuts on the way down; the DNS has rarely more than four.
pub(super) const MOST_CUTS: usize = 20;
/// Nameserver names that need other nameserver names to be found, and so on.
const MOST_DEPTH: usize = 4;
/// Servers of one zone that are tried before it counts as stuck.
const MOST_TRIED: usize = 6;
const MOST_ALIASES: usize = 8;

pub(super) struct Walk<'a> {
    pub brief: &'a Brief,
    pub seen: &'a Observations,
    missing: Vec<Question>,
    listed: HashSet<Question, RandomState>,
    /// The names being resolved, to see a loop among nameservers.
    resolving: Vec<DnsName>,
    /// The cuts that were passed.
    pub cuts: Cuts,
}

/// Where the way down to a domain's parent ends.
pub(super) enum Descent {
    /// `servers` serve the zone `parent`, which delegates the domain.
    Delegated {
        parent: DnsName,
        servers: Vec<SocketAddr>,
    },
    /// A server of the zone `parent` says that nothing is delegated there.
    NotDelegated {
        parent: DnsName,
        servers: Vec<SocketAddr>,
    },
    Stuck {
        at: DnsName,
        why: String,
    },
}

enum Looked<'a> {
    /// A zone that answers with authority, or without a further referral.
    End {
        zone: DnsName,
        servers: Vec<SocketAddr>,
        reply: &'a Reply,
    },
    /// The next cut is the wanted name itself.
    Cut {
        zone: DnsName,
        servers: Vec<SocketAddr>,
    },
    Stuck {
        at: DnsName,
        why: String,
    },
}

impl<'a> Walk<'a> {
    pub fn new(brief: &'a Brief, seen: &'a Observations) -> Self {
        Self { brief, seen, missing: Vec::new(), listed: HashSet::default(), resolving: Vec::new(), cuts: Cuts::new() }
    }

    pub fn into_missing(self) -> Vec<Question> {
        self.missing
    }

    /// The outcome of a question, or `None` and the question goes on the list.
    pub fn ask(&mut self, server: SocketAddr, name: &DnsName, record_type: RecordType) -> Option<&'a Outcome> {
        self.ask_by(Question::authoritative(server, name, record_type))
    }

    /// The same for a question of any kind.
    pub fn ask_by(&mut self, question: Question) -> Option<&'a Outcome> {
        let outcome = self.seen.outcome(&question);
        if outcome.is_none() && self.listed.insert(question.clone()) {
            self.missing.push(question);
        }
        outcome
    }

    /// Goes down to the parent of `domain`.
    pub fn descend(&mut self, domain: &DnsName) -> Option<Descent> {
        Some(match self.look(domain, RecordType::NS, Some(domain))? {
            Looked::Cut { zone, servers } => Descent::Delegated { parent: zone, servers },
            Looked::End { zone, servers, reply } => {
                let holds_both =
                    reply.answer.iter().any(|record| record.owner == *domain && record.record_type() == RecordType::NS);
                if holds_both {
                    Descent::Delegated { parent: zone, servers }
                } else {
                    Descent::NotDelegated { parent: zone, servers }
                }
            }
            Looked::Stuck { at, why } => Descent::Stuck { at, why },
        })
    }

    /// The addresses of a name, looked up the ordinary way; empty if it has none.
    pub fn addresses_of(&mut self, name: &DnsName) -> Option<Vec<IpAddr>> {
        if self.resolving.len() >= MOST_DEPTH || self.resolving.contains(name) {
            return Some(vec![]);
        }
        self.resolving.push(name.clone());
        let v4 = self.resolve(name, RecordType::A);
        let v6 = self.resolve(name, RecordType::AAAA);
        self.resolving.pop();
        let mut all = v4?;
        all.extend(v6?);
        all.sort();
        all.dedup();
        Some(all)
    }

    fn resolve(&mut self, name: &DnsName, record_type: RecordType) -> Option<Vec<IpAddr>> {
        let mut name = name.clone();
        for _ in 0..MOST_ALIASES {
            let Looked::End { reply, .. } = self.look(&name, record_type, None)? else {
                return Some(vec![]);
            };
            let addresses: Vec<IpAddr> = reply.answer.iter().filter_map(|record| record.data.address()).collect();
            if !addresses.is_empty() {
                return Some(addresses);
            }
            let alias = reply.answer.iter().find_map(|record| match &record.data {
                RecordData::Cname(target) if record.owner == name => Some(target.clone()),
                _ => None,
            });
            match alias {
                Some(target) => name = target,
                None => return Some(vec![]),
            }
        }
        Some(vec![])
    }

    /// The nearest cut above the name that is known already, else the root.
    fn start(&self, name: &DnsName) -> (DnsName, Vec<SocketAddr>) {
        let mut above = name.parent();
        while let Some(zone) = above {
            if let Some(servers) = self.brief.cuts.get(&zone).filter(|servers| !servers.is_empty()) {
                return (zone, servers.clone());
            }
            above = zone.parent();
        }
        (DnsName::root(), self.brief.roots.clone())
    }

    /// When the last observation so far was made.
    pub fn seen_at(&self) -> Option<Timestamp> {
        self.seen.latest
    }

    /// The name that a nameserver's name is an alias of, as far as that was seen while it was looked up.
    pub fn alias_of(&self, name: &DnsName) -> Option<DnsName> {
        self.seen.aliases.get(name).cloned()
    }

    /// Follows referrals from the root. With `stop_at`, ends at the cut of that name instead of going below it.
    fn look(&mut self, name: &DnsName, record_type: RecordType, stop_at: Option<&DnsName>) -> Option<Looked<'a>> {
        let (mut zone, mut servers) = self.start(name);
        for _ in 0..MOST_CUTS {
            let (reply, good) = match self.first_reply(&servers, name, record_type)? {
                Ok(found) => found,
                Err(why) => return Some(Looked::Stuck { at: zone, why }),
            };
            let cut = reply.authority.iter().find_map(|record| match record.record_type() {
                RecordType::NS if is_progress(&record.owner, &zone, name) => Some(record.owner.clone()),
                _ => None,
            });
            let cut = match cut {
                Some(cut) if !reply.authoritative && reply.rcode == Reply::NOERROR => cut,
                _ if reply.authoritative => {
                    return Some(Looked::End { zone, servers, reply });
                }
                _ => {
                    let why = format!("{good} neither answers with authority for {zone} nor refers further");
                    return Some(Looked::Stuck { at: zone, why });
                }
            };
            if stop_at == Some(&cut) {
                return Some(Looked::Cut { zone, servers });
            }
            servers = self.servers_of_cut(&cut, reply)?;
            self.cuts.insert(cut.clone(), servers.clone());
            if servers.is_empty() {
                let why = format!("no nameserver of {cut} has an address that can be found");
                return Some(Looked::Stuck { at: cut, why });
            }
            zone = cut;
        }
        Some(Looked::Stuck { at: zone, why: "referrals without end".into() })
    }

    /// The first useful reply among the servers of a zone, tried in order.
    #[allow(clippy::type_complexity)]
    fn first_reply(
        &mut self,
        servers: &[SocketAddr],
        name: &DnsName,
        record_type: RecordType,
    ) -> Option<Result<(&'a Reply, SocketAddr), String>> {
        let mut reasons = Vec::new();
        for server in servers.iter().take(MOST_TRIED) {
            match self.ask(*server, name, record_type)? {
                Outcome::Reply(reply) if matches!(reply.rcode, Reply::NOERROR | Reply::NXDOMAIN) => {
                    return Some(Ok((reply, *server)));
                }
                other => reasons.push(format!("{server} {}", other.in_words())),
            }
        }
        Some(Err(reasons.join("; ")))
    }

    /// The servers behind a referral: by glue, else by looking their names up.
    fn servers_of_cut(&mut self, cut: &DnsName, reply: &Reply) -> Option<Vec<SocketAddr>> {
        let names: Vec<&DnsName> = reply
            .authority
            .iter()
            .filter_map(|record| match &record.data {
                RecordData::Ns(name) if record.owner == *cut => Some(name),
                _ => None,
            })
            .take(13)
            .collect();
        let glue = |record: &Record| {
            // Addresses of names outside the parent's own reach are hearsay; they are looked up instead.
            names.contains(&&record.owner) && record.owner.is_within(cut)
        };
        let port = self.brief.dns_port;
        let mut servers: Vec<SocketAddr> = reply
            .additional
            .iter()
            .filter(|record| glue(record))
            .filter_map(|record| record.data.address())
            .map(|address| SocketAddr::new(address, port))
            .collect();
        if servers.is_empty() {
            for name in names.iter().take(4).filter(|name| !name.is_within(cut)) {
                let addresses = self.addresses_of(name)?;
                servers.extend(addresses.into_iter().map(|address| SocketAddr::new(address, port)));
                if !servers.is_empty() {
                    break;
                }
            }
        }
        servers.retain(|server| is_in_place(server.ip(), &self.brief.roots));
        servers.sort_by_key(|server| server.is_ipv6());
        servers.truncate(26);
        Some(servers)
    }
}

/// A referral must lead further down, towards the name: anything else would go on for ever.
fn is_progress(cut: &DnsName, zone: &DnsName, name: &DnsName) -> bool {
    cut != zone && cut.is_within(zone) && name.is_within(cut)
}
