//! A record that points to a name that no host can have.

use super::{Indexed, Rule, is_hostname, targets};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "target-not-a-hostname",
    severity: Severity::Fault,
    what: "An NS, MX, SRV, SVCB, HTTPS or SOA record names a host with characters that a hostname cannot have.",
    why: "Nothing can be reached at such a name, and primary servers refuse to load the zone.",
    cure: "Mend the spelling of the name: letters, digits and hyphens.",
    source: "RFC 1123 section 2.1, RFC 952",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        for target in targets(record).filter(|target| !target.is_root() && !is_hostname(target, false)) {
            let (name, target, kind) = (record.owner.bare(), target.bare(), record.record_type());
            let message = format!("the {kind} record of {name} names {target}, which cannot be the name of a host");
            findings.push(zone.on(record, TEXT.finding(&name, message, format!("correct the name {target}"))));
        }
    }
    findings
}
