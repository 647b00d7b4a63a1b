//! The third link: whether the authoritative data leads to our addresses, and resolvers have caught up.

use jiff::{SignedDuration, Timestamp};

use super::handover::address_records;
use super::{Link, LinkName, LinkState, Seen, Turn};
use crate::delegation::Address;
use crate::nameserver::at_registrar;

pub(super) fn resolves(seen: &Seen<'_>, registered: &Link) -> Link {
    let link = |state, code: &'static str, because: String| Link::new(LinkName::Resolves, state, code, because);
    // Whoever keeps the zone can enter the records before anybody asks for them.
    let to_enter = |link: Link| match seen.harbored.is_some() && !seen.zone_is_here() {
        true => link.turn(Turn::DnsHost).values(address_records(seen.hostname, seen.our_addresses)),
        false => link,
    };
    if registered.state != LinkState::Holds {
        let because = "nothing can resolve before the domain is registered";
        return to_enter(link(LinkState::Unchecked, "not-registered", because.into()));
    }
    let answering = seen.picture.authoritative_servers().count();
    if answering == 0 {
        let because = "no nameserver of the domain answers with authority";
        return to_enter(link(LinkState::Unchecked, "no-authority", because.into()));
    }
    if let Some(because) = alias_that_resolvers_follow(seen) {
        return link(LinkState::Holds, "alias-followed", because);
    }
    if let Err(because) = authoritative_leads_here(seen) {
        let delegated_elsewhere = seen.findings.iter().any(|f| f.code == "nameservers-not-as-expected");
        let broken = link(LinkState::Broken, "leads-elsewhere", because);
        return match (seen.harbored.is_some(), seen.zone_is_here(), delegated_elsewhere) {
            (false, ..) => broken,
            (true, true, true) => {
                broken.turn(Turn::Registrar).values(at_registrar(&seen.picture.domain, seen.expected))
            }
            (true, true, false) => broken.turn(Turn::Administrator),
            (true, false, _) => broken.turn(Turn::DnsHost).values(address_records(seen.hostname, seen.our_addresses)),
        };
    }
    let (addresses, _) = seen.authoritative();
    let here = listed(&addresses);
    if let Some((resolver, until)) = last_old_answer(seen, &addresses) {
        let because = format!("{here} at the nameservers; the resolver {resolver} still has the old answer");
        return link(LinkState::Waiting(Some(until)), "old-answer-cached", because).turn(Turn::Caches);
    }
    if let Some(validating) = seen.resolved.iter().find(|resolved| resolved.answers_unchecked) {
        let because = format!(
            "{here} at the nameservers; the resolver {} refuses that, and answers as soon as it is asked not to validate",
            validating.resolver
        );
        let turn = if seen.zone_is_here() { Turn::Administrator } else { Turn::DnsHost };
        return link(LinkState::Broken, "resolver-refuses-signatures", because).turn(turn);
    }
    if let Some(failed) = seen.resolved.iter().find_map(|r| r.failed.as_ref().map(|why| (r.resolver, why))) {
        let because = format!("{here} at the nameservers; the resolver {} {}", failed.0, failed.1);
        return link(LinkState::Risk, "resolver-failed", because);
    }
    let caught_up = match seen.resolved.len() {
        0 => "no resolver was asked".to_string(),
        1 => "the resolver agrees".to_string(),
        count => format!("{count} resolvers agree"),
    };
    link(LinkState::Holds, "resolves", format!("{here}; {caught_up}"))
}

/// A name that is not served here may be an alias of one in another zone: then resolvers know where it ends.
fn alias_that_resolvers_follow(seen: &Seen<'_>) -> Option<String> {
    let (addresses, answer) = seen.authoritative();
    let alias = answer?.aliases.last().filter(|_| seen.harbored.is_none() && addresses.is_empty())?;
    let mut found: Vec<Address> = seen.resolved.iter().flat_map(|resolved| resolved.addresses.clone()).collect();
    found.sort();
    found.dedup_by_key(|address| address.address);
    (!found.is_empty()).then(|| format!("an alias of {}, which leads to {}", alias.bare(), listed(&found)))
}

/// Whether every authoritative address is of this host; without a harbor, whether there is any.
pub(super) fn authoritative_leads_here(seen: &Seen<'_>) -> Result<(), String> {
    if let Some(address) = seen.hostname.address() {
        return if seen.is_ours(&address) { Ok(()) } else { Err(format!("{address} is not an address of this host")) };
    }
    let (addresses, answer) = seen.authoritative();
    if addresses.is_empty() {
        let what = match answer {
            Some(answer) if answer.no_such_name => "the nameservers say that there is no such name",
            Some(answer) if !answer.aliases.is_empty() => "the name is an alias that leads to no address seen here",
            _ => "the nameservers have no address for the name",
        };
        return Err(what.into());
    }
    if seen.harbored.is_none() {
        return Ok(());
    }
    let foreign: Vec<Address> = addresses.iter().filter(|address| !seen.is_ours(&address.address)).copied().collect();
    if foreign.is_empty() {
        return Ok(());
    }
    let ours = seen.our_addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let some = if foreign.len() < addresses.len() { "in part " } else { "" };
    Err(format!("the name leads {some}to {}, not to {ours}", listed(&foreign)))
}

/// The resolver that keeps an older answer the longest, with the time it must have dropped it.
fn last_old_answer(seen: &Seen<'_>, current: &[Address]) -> Option<(std::net::SocketAddr, Timestamp)> {
    let old = seen.resolved.iter().filter_map(|resolved| {
        if resolved.failed.is_some() {
            return None;
        }
        let stale = resolved.addresses.iter().filter(|a| !current.iter().any(|c| c.address == a.address));
        let longest = stale.map(|address| address.ttl).max();
        let missing = resolved.addresses.is_empty().then_some(resolved.negative_ttl.unwrap_or(0));
        let seconds = longest.or(missing)?;
        let until = seen.now.checked_add(SignedDuration::from_secs(i64::from(seconds) + 1)).ok()?;
        Some((resolved.resolver, until))
    });
    old.max_by_key(|(_, until)| *until)
}

fn listed(addresses: &[Address]) -> String {
    addresses.iter().map(|address| address.address.to_string()).collect::<Vec<_>>().join(", ")
}
