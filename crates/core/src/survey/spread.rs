//! How far a change of addresses has spread: which resolvers have the present answer, which still have an old one, and
//! until when at the latest.

use std::net::{IpAddr, SocketAddr};

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

use super::{Resolved, Seen};

/// How one hostname looks to resolvers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Spread {
    pub hostname: String,
    /// What the nameservers answer now.
    pub current: Vec<IpAddr>,
    pub resolvers: Vec<Answering>,
    /// When the last cache anywhere has dropped what was there before the harbor's own last change; `None` where
    /// nothing was changed here lately.
    pub everywhere: Option<Timestamp>,
}

/// What one resolver answers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Answering {
    pub resolver: SocketAddr,
    pub addresses: Vec<IpAddr>,
    pub has: Has,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "is")]
pub enum Has {
    /// The present answer.
    Current,
    /// Another one, for so long at the most.
    Old {
        until: Timestamp,
    },
    /// That there is no such name, for so long at the most.
    Nothing {
        until: Timestamp,
    },
    Failed {
        why: String,
    },
}

/// Compares what resolvers answer with what the nameservers do. `changed` is when the harbor last changed the zone.
pub fn spread(seen: &Seen<'_>, changed: Option<Timestamp>) -> Spread {
    let (authoritative, answer) = seen.authoritative();
    let current: Vec<IpAddr> = authoritative.iter().map(|address| address.address).collect();
    let resolvers = seen.resolved.iter().map(|resolved| answering(resolved, &current, seen.now)).collect();
    // Who asked just before the change keeps what was there for as long as it lived: with the same time to live as now,
    // or, where the name is new, as long as its absence did.
    let longest = authoritative.iter().map(|address| address.ttl).max();
    let longest = longest.max(answer.and_then(|answer| answer.negative_ttl));
    let everywhere = changed.zip(longest).and_then(|(changed, seconds)| after(changed, seconds));
    let everywhere = everywhere.filter(|until| *until > seen.now);
    Spread { hostname: seen.hostname.to_string(), current, resolvers, everywhere }
}

fn answering(resolved: &Resolved, current: &[IpAddr], now: Timestamp) -> Answering {
    let mut addresses: Vec<IpAddr> = resolved.addresses.iter().map(|address| address.address).collect();
    addresses.sort();
    addresses.dedup();
    let stale = resolved.addresses.iter().filter(|address| !current.contains(&address.address));
    let has = match (&resolved.failed, stale.map(|address| address.ttl).max()) {
        (Some(why), _) => Has::Failed { why: why.clone() },
        (None, Some(ttl)) => Has::Old { until: after(now, ttl).unwrap_or(now) },
        (None, None) if addresses.is_empty() && !current.is_empty() => {
            Has::Nothing { until: after(now, resolved.negative_ttl.unwrap_or(0)).unwrap_or(now) }
        }
        // Fewer addresses than there are: the others come when these run out.
        (None, None) if addresses.len() < current.len() => {
            let ttl = resolved.addresses.iter().map(|address| address.ttl).max().unwrap_or(0);
            Has::Old { until: after(now, ttl).unwrap_or(now) }
        }
        (None, None) => Has::Current,
    };
    Answering { resolver: resolved.resolver, addresses, has }
}

fn after(time: Timestamp, seconds: u32) -> Option<Timestamp> {
    time.checked_add(SignedDuration::from_secs(i64::from(seconds) + 1)).ok()
}

impl Spread {
    /// How many of those that answer have the present answer.
    pub fn caught_up(&self) -> usize {
        self.resolvers.iter().filter(|answering| answering.has == Has::Current).count()
    }

    /// When the last of the resolvers asked has it.
    pub fn until(&self) -> Option<Timestamp> {
        let ends = self.resolvers.iter().filter_map(|answering| match &answering.has {
            Has::Old { until } | Has::Nothing { until } => Some(*until),
            Has::Current | Has::Failed { .. } => None,
        });
        ends.max()
    }
}
