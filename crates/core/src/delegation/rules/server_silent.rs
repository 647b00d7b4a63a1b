//! A nameserver does not answer.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-silent",
    severity: Severity::Fault,
    what: "A nameserver of the delegation gives no answer at one of its addresses.",
    why: "Visitors' resolvers wait for it before they try another; with no other one left, nothing resolves.",
    cure: "See that the server runs, listens on that address, and that no firewall drops UDP or TCP to its DNS port. \
           If the server is gone for good, take it out of the delegation at the registrar.",
    source: "RFC 1912 section 2.8",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let silent = picture.servers().filter(|(_, server)| server.state == ServerState::Silent);
    silent
        .map(|(nameserver, server)| {
            let name = nameserver.name.bare();
            let message = format!("{name} at {} did not answer in time", server.address);
            TEXT.finding(&name, message, format!("see that {name} runs and answers at {}", server.address))
                .at(server.address)
        })
        .collect()
}
