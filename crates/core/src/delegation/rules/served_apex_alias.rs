//! A nameserver gives an alias for the domain itself.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-apex-alias",
    severity: Severity::Fault,
    what: "A nameserver of the delegation answers for the domain itself with an alias (CNAME).",
    why: "An alias stands for all records of its name: nameservers, mail servers and the start of authority of the domain are \
          gone, and resolvers differ in what they make of it.",
    cure: "Put address records in place of the alias, or an alias of the server's own kind that it answers with addresses.",
    source: "RFC 1034 section 3.6.2, RFC 2181 section 10.1",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (nameserver, server) in picture.servers() {
        let ServerState::ApexAlias { target } = &server.state else { continue };
        let (name, domain) = (nameserver.name.bare(), picture.domain.bare());
        let message = format!("{name} at {} answers for {domain} with an alias of {}", server.address, target.bare());
        let cure =
            format!("in the zone on {name}, replace the CNAME of {domain} by the addresses of {}", target.bare());
        findings.push(TEXT.finding(&name, message, cure).at(server.address));
    }
    findings
}
