//! A nameserver forbids resolvers to remember what it says.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-ttl-zero",
    severity: Severity::Risk,
    what: "A nameserver gives the domain's nameservers, or a hostname that is attached here, with a TTL of 0.",
    why: "Every visitor's every question comes to the nameservers: a moment without them is felt at once, and everything is \
          slower at all times.",
    cure: "Give the records a TTL of some minutes at least.",
    source: "RFC 1912 section 2.2, RFC 9199 section 4",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut findings: Vec<Finding> = Vec::new();
    for (nameserver, server) in picture.authoritative_servers() {
        let own = (server.probed.ns_ttl == Some(0)).then(|| picture.domain.bare());
        let hosts = server.hosts.iter().filter(|host| host.addresses.iter().any(|address| address.ttl == 0));
        for subject in own.into_iter().chain(hosts.map(|host| host.hostname.bare())) {
            if findings.iter().any(|finding| finding.subject == subject) {
                continue;
            }
            let message = format!("{} gives {subject} with a TTL of 0", nameserver.name.bare());
            findings.push(TEXT.finding(
                &subject,
                message,
                format!("give the records of {subject} a TTL of 300 or more"),
            ));
        }
    }
    findings
}
