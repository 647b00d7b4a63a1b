//! A name that repeats the zone's name: a final dot was forgotten.

use super::{Indexed, Rule, targets};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "repeated-zone-name",
    severity: Severity::Risk,
    what: "A name ends in the zone's name twice, as in `www.gullrock.example.gullrock.example`.",
    why: "A full name without its final dot is taken as a name below the zone. What was meant does not exist, and mail \
          or visitors go nowhere.",
    cure: "Add the final dot to the full name, or leave the zone's name out.",
    source: "RFC 1035 section 5.1, RFC 1912 section 2.3",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    // Every name ends in that of the root zone, however often it is said.
    if zone.apex().is_root() {
        return vec![];
    }
    let labels = zone.apex().labels().chain(zone.apex().labels());
    // A zone whose name would not fit twice has no such names.
    let Ok(doubled) = DnsName::from_labels(labels) else { return vec![] };
    let mut findings = Vec::new();
    for record in zone.records() {
        for name in std::iter::once(&record.owner).chain(targets(record)) {
            if name.is_within(&doubled) {
                let shown = name.bare();
                let message = format!("{shown} ends in the zone's name twice");
                findings.push(
                    zone.on(record, TEXT.finding(&shown, message, "add the final dot, or leave the zone's name out")),
                );
            }
        }
    }
    findings.dedup_by(|a, b| a.message == b.message);
    findings
}
