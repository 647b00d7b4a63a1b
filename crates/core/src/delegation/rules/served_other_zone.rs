//! A nameserver answers from a zone of another name.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-other-zone",
    severity: Severity::Fault,
    what: "A nameserver of the delegation answers with authority, with the start of authority of another name.",
    why: "It holds a zone above or beside the domain: it knows no start of authority for the domain, so that secondaries and \
          validating resolvers cannot work with it.",
    cure: "Make a zone of the domain's own on that server.",
    source: "RFC 1034 section 4.2.1",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (nameserver, server) in picture.servers() {
        let ServerState::OtherZone { zone } = &server.state else { continue };
        let (name, domain) = (nameserver.name.bare(), picture.domain.bare());
        let zone = if zone.is_root() { ".".into() } else { zone.bare() };
        let message = format!("{name} at {} answers for {domain} from the zone {zone}", server.address);
        findings.push(TEXT.finding(&name, message, format!("set the zone {domain} up on {name}")).at(server.address));
    }
    findings
}
