//! A nameserver has an address that the internet does not reach.

use super::{Expected, Rule, each_server};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameserver-out-of-place",
    severity: Severity::Fault,
    what: "A nameserver of the delegation has a private, reserved or loopback address. It was not asked.",
    why: "Resolvers elsewhere look for the server in their own network, and find nothing, or somebody \
          else.",
    cure: "Give the nameserver its public address, in its zone and as glue at the registrar.",
    source: "RFC 1918 section 3, RFC 6890",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| {
        let ServerState::OutOfPlace { kind } = &server.state else { return None };
        let address = server.address.ip();
        let message = format!("{name} has {address}, {kind}: the world cannot reach it");
        Some(TEXT.finding(name, message, format!("give {name} its public address")))
    })
}
