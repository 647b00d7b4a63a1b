//! A nameserver sends what is no DNS answer.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-garbled",
    severity: Severity::Fault,
    what: "What comes back from a nameserver is no DNS answer to the question.",
    why: "Resolvers drop it and go on waiting. Something else listens at the port, or a device on the way changes what \
          passes.",
    cure: "See what listens at that address, and whether a firewall or load balancer on the way rewrites DNS.",
    source: "RFC 1035 section 4.1",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (nameserver, server) in picture.servers() {
        let ServerState::Garbled { reason } = &server.state else { continue };
        let name = nameserver.name.bare();
        let message = format!("{name} at {} sends something that is not a DNS answer ({reason})", server.address);
        findings
            .push(TEXT.finding(&name, message, format!("see what listens at {}", server.address)).at(server.address));
    }
    findings
}
