//! An address that the world cannot reach.

use std::net::IpAddr;

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "private-address",
    severity: Severity::Risk,
    what: "An address record holds a private, link-local or loopback address.",
    why: "Visitors from elsewhere are led into their own network, or to their own machine; many resolvers drop such \
          answers as an attack.",
    cure: "Use the public address. For names of an inner network, keep a zone that only the inside sees.",
    source: "RFC 1918, RFC 6890",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let Some(address) = record.data.address() else { continue };
        let inner = match address {
            IpAddr::V4(v4) => v4.is_private() || v4.is_loopback() || v4.is_link_local() || v4.is_unspecified(),
            IpAddr::V6(v6) => {
                v6.is_loopback() || v6.is_unspecified() || v6.is_unique_local() || v6.is_unicast_link_local()
            }
        };
        if inner {
            let name = record.owner.bare();
            let message = format!("{name} leads to {address}, which the world cannot reach");
            findings.push(TEXT.finding(&name, message, format!("give {name} its public address")));
        }
    }
    findings
}
