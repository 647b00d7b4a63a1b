//! An address that the world cannot reach.

use super::{Indexed, Rule};
use crate::address::AddressKind;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "private-address",
    severity: Severity::Risk,
    what: "An address record holds a private, link-local, loopback or reserved address.",
    why: "Visitors from elsewhere are led into their own network, or to their own machine; many resolvers drop such \
          answers as an attack.",
    cure: "Use the public address. For names of an inner network, keep a zone that only the inside sees.",
    source: "RFC 1918, RFC 6890",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let Some(address) = record.data.address() else { continue };
        let kind = AddressKind::of(address);
        // Those for documentation stand in examples and in closed networks, where they lead nobody astray.
        if !matches!(kind, AddressKind::Public | AddressKind::Documentation) {
            let name = record.owner.bare();
            let message = format!("{name} leads to {address}, {}, which the world cannot reach", kind.words());
            findings.push(zone.on(record, TEXT.finding(&name, message, format!("give {name} its public address"))));
        }
    }
    findings
}
