//! More than one DNAME record at a name.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordType;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "second-dname",
    severity: Severity::Fault,
    what: "A name has two different DNAME records.",
    why: "Everything below the name can be moved to one place only. Servers refuse to load the zone.",
    cure: "Keep one of them.",
    source: "RFC 6672 section 2.4",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let mut all = records.iter().filter(|record| record.record_type() == RecordType::DNAME);
        let Some(first) = all.next() else { continue };
        if let Some(second) = all.find(|record| record.data != first.data) {
            let name = owner.bare();
            let message = format!("{name} has DNAME records to {} and to {}", first.data, second.data);
            findings.push(zone.on(second, TEXT.finding(&name, message, "keep one of them")));
        }
    }
    findings
}
