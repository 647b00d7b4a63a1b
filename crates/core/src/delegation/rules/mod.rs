//! The rules that judge a delegation: one file each, with its texts beside its check.
//!
//! A check reads the whole picture and what is expected; it asks nothing. `tests` reads this folder and fails if a
//! rule is not registered here, has no texts, or has no test that makes it fire.

mod glue_differs;
mod glue_missing;
mod nameserver_without_address;
mod nameservers_not_as_expected;
mod not_registered;
mod parent_and_zone_differ;
mod parent_not_reached;
mod server_not_authoritative;
mod server_refuses;
mod server_silent;

use std::collections::BTreeMap;
use std::net::IpAddr;

use super::Picture;
use crate::finding::{Finding, RuleText};
use crate::name::DnsName;

/// One rule: its texts, and the check that makes findings of it.
pub struct Rule {
    pub text: &'static RuleText,
    pub check: fn(&Picture, &Expected) -> Vec<Finding>,
}

/// What the harbor wants to see; empty where nothing is expected (a check without a harbor).
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Expected {
    pub nameservers: Vec<DnsName>,
    /// Their addresses, where the harbor knows them: for nameservers inside a domain of its own.
    pub addresses: BTreeMap<DnsName, Vec<IpAddr>>,
}

/// In the order in which they are reported among findings of one severity.
pub const ALL: &[Rule] = &[
    not_registered::RULE,
    parent_not_reached::RULE,
    nameservers_not_as_expected::RULE,
    glue_missing::RULE,
    glue_differs::RULE,
    nameserver_without_address::RULE,
    server_silent::RULE,
    server_refuses::RULE,
    server_not_authoritative::RULE,
    parent_and_zone_differ::RULE,
];

/// All findings about a delegation, the gravest first.
pub fn judge(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let mut findings: Vec<Finding> = ALL.iter().flat_map(|rule| (rule.check)(picture, expected)).collect();
    findings.sort_by_key(|finding| finding.severity);
    findings
}

/// Names in one line, without their final dots.
fn listed(names: &[DnsName]) -> String {
    if names.is_empty() {
        return "none".into();
    }
    names.iter().map(DnsName::bare).collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests;
