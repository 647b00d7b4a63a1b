//! A nameserver refuses to answer for the domain.

use super::{Expected, Rule, cure_of_missing_zone};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-refuses",
    severity: Severity::Fault,
    what: "A nameserver of the delegation answers with REFUSED or another error.",
    why: "REFUSED mostly means that the zone is not on that server, or that the server is not to answer strangers.",
    cure: "Load the zone on that server, or take the server out of the delegation at the registrar.",
    source: "RFC 1035 section 4.1.1",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (nameserver, server) in picture.servers() {
        let ServerState::Refuses { rcode } = &server.state else { continue };
        if rcode == "SERVFAIL" {
            continue;
        }
        let (name, domain) = (nameserver.name.bare(), picture.domain.bare());
        let message = format!("{name} at {} answers {rcode} for {domain}", server.address);
        let cure = cure_of_missing_zone(&nameserver.name, expected, format!("load the zone {domain} on {name}"));
        findings.push(TEXT.finding(&name, message, cure).at(server.address));
    }
    findings
}
