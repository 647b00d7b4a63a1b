//! The nameservers give different answers for a hostname.

use super::{Expected, Rule};
use crate::delegation::{HostAnswer, Picture};
use crate::finding::{Finding, RuleText, Severity};

use std::collections::BTreeMap;
use std::net::IpAddr;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "servers-disagree",
    severity: Severity::Risk,
    what: "The nameservers of the domain answer with authority, and differ in the addresses of a hostname \
          that is attached here.",
    why: "Visitors end at one place or another, depending on which server their resolver asks.",
    cure: "See which server has the right data, and bring the others up to date: mostly a secondary that \
          does not get the zone any more.",
    source: "RFC 1034 section 4.3.5",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let mut by_name: BTreeMap<String, Vec<(String, Vec<IpAddr>)>> = BTreeMap::new();
    for (nameserver, server) in picture.authoritative_servers() {
        for host in &server.hosts {
            by_name.entry(host.hostname.bare()).or_default().push((nameserver.name.bare(), addresses(host)));
        }
    }
    let mut findings = Vec::new();
    for (name, answers) in by_name {
        let Some((first, one)) = answers.first() else { continue };
        let Some((second, other)) = answers.iter().find(|(_, found)| found != one) else { continue };
        let message = format!("{first} leads {name} to {}, {second} to {}", listed(one), listed(other));
        let finding =
            TEXT.finding(&name, message, format!("bring {first} and {second} to the same version of the zone"));
        let soa = picture.servers().find_map(|(_, server)| server.probed.soa.as_ref());
        findings.push(match (expected.changed_at, soa) {
            (Some(changed), Some(soa)) => {
                finding.waiting(changed, u64::from(soa.refresh) + u64::from(soa.retry), picture.seen_at)
            }
            _ => finding,
        });
    }
    findings
}

fn addresses(host: &HostAnswer) -> Vec<IpAddr> {
    let mut addresses: Vec<IpAddr> = host.addresses.iter().map(|address| address.address).collect();
    addresses.sort();
    addresses.dedup();
    addresses
}

fn listed(addresses: &[IpAddr]) -> String {
    if addresses.is_empty() {
        return "nothing".into();
    }
    addresses.iter().map(IpAddr::to_string).collect::<Vec<_>>().join(", ")
}
