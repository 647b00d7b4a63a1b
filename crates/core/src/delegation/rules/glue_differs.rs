//! The parent's address for a nameserver is not the one the zone itself gives.

use std::net::IpAddr;

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerSeen};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "glue-differs",
    severity: Severity::Risk,
    what: "The addresses that the parent hands out for a nameserver differ from those in the zone of that name.",
    why: "Resolvers start with the parent's addresses. A stale one sends a part of the visitors to a server that may \
          be gone, or belong to somebody else by now.",
    cure: "Find out which is right, then change the other: at the registrar (host object of the nameserver), or the \
           address records of the nameserver in its zone.",
    source: "RFC 1034 section 4.2.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let shown = |addresses: &[IpAddr]| addresses.iter().map(IpAddr::to_string).collect::<Vec<_>>().join(", ");
    let both = picture.nameservers.iter().filter(|seen| !seen.glue.is_empty() && !seen.addresses.is_empty());
    both.filter(|seen| seen.glue.iter().any(|address| !seen.addresses.contains(address)))
        .map(|seen| {
            let name = seen.name.bare();
            let (glue, own) = (shown(&seen.glue), shown(&seen.addresses));
            let answers = |address: &&IpAddr| {
                let at = |server: &&ServerSeen| server.address.ip() == **address;
                seen.servers.iter().find(at).is_some_and(|server| server.state.has_authority())
            };
            let dead: Vec<IpAddr> = seen.glue.iter().filter(|address| !answers(address)).copied().collect();
            let live: Vec<IpAddr> = seen.addresses.iter().filter(answers).copied().collect();
            let message = format!("the parent gives {name} the address {glue}, its own zone {own}");
            match (dead.is_empty(), live.is_empty()) {
                (false, false) => {
                    let (dead, live) = (shown(&dead), shown(&live));
                    let message = format!("{message}; {live} answers, and {dead} does not");
                    TEXT.finding(
                        &name,
                        message,
                        format!("at the registrar, change the address of {name} from {dead} to {live}"),
                    )
                }
                _ => TEXT.finding(&name, message, format!("make both say the same about {name}")),
            }
        })
        .collect()
}
