//! A nameserver has the zone, and cannot answer for it.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-fails",
    severity: Severity::Fault,
    what: "A nameserver of the delegation answers with SERVFAIL.",
    why: "The zone is set up on that server, and it could not load it, or a secondary has not reached its primary until the \
          zone expired.",
    cure: "Look into the log of that server: it names the line that it cannot load, or the primary that it cannot reach.",
    source: "RFC 1035 section 4.1.1",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (nameserver, server) in picture.servers() {
        if !matches!(&server.state, ServerState::Refuses { rcode } if rcode == "SERVFAIL") {
            continue;
        }
        let (name, domain) = (nameserver.name.bare(), picture.domain.bare());
        let message =
            format!("{name} at {} answers SERVFAIL for {domain}: it has the zone and cannot use it", server.address);
        let cure = format!("see in the log of {name} why {domain} is not loaded, or has expired");
        findings.push(TEXT.finding(&name, message, cure).at(server.address));
    }
    findings
}
