//! A nameserver says, with authority, that the domain does not exist.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-denies-domain",
    severity: Severity::Fault,
    what: "A nameserver of the delegation answers with authority that there is no such name (NXDOMAIN).",
    why: "It holds a zone above the domain, and not the domain's own: visitors are told for certain that the domain does not \
          exist, and resolvers remember it.",
    cure: "Set the zone of the domain up on that server, or enter the domain in the zone that it does hold.",
    source: "RFC 2308 section 2.1",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let denying = picture.servers().filter(|(_, server)| server.state == ServerState::NoSuchDomain);
    denying
        .map(|(nameserver, server)| {
            let (name, domain) = (nameserver.name.bare(), picture.domain.bare());
            let message = format!("{name} at {} says with authority that {domain} does not exist", server.address);
            TEXT.finding(&name, message, format!("set the zone {domain} up on {name}")).at(server.address)
        })
        .collect()
}
