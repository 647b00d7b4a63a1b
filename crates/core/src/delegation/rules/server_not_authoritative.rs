//! A nameserver answers without authority for the domain.

use super::{Expected, Rule, cure_of_missing_zone};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-not-authoritative",
    severity: Severity::Fault,
    what: "A nameserver of the delegation answers, but not with authority: it does not hold the zone (lame delegation).",
    why: "Resolvers discard such an answer. It is mostly a resolver, or a server where the zone was never set up.",
    cure: "Set the zone up on that server, or take the server out of the delegation at the registrar.",
    source: "RFC 1912 section 2.8, RFC 9499 section 7",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (nameserver, server) in picture.servers() {
        if server.state != ServerState::NotAuthoritative {
            continue;
        }
        let (name, domain) = (nameserver.name.bare(), picture.domain.bare());
        let message = format!("{name} at {} answers for {domain} without authority", server.address);
        let cure = cure_of_missing_zone(&nameserver.name, expected, format!("set the zone {domain} up on {name}"));
        findings.push(TEXT.finding(&name, message, cure).at(server.address));
    }
    findings
}
