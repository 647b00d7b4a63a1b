//! Aliases that lead back to themselves.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;
use crate::zone::{Record, RecordData};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "alias-circle",
    severity: Severity::Risk,
    what: "A CNAME record leads to itself, by one or several aliases.",
    why: "Resolvers give up after a few steps, and the name has no data.",
    cure: "Let the last of them lead to a name with records.",
    source: "RFC 1034 section 5.2.2",
};

/// Longer chains are not followed by resolvers either.
const MOST_STEPS: usize = 16;

fn target(record: &Record) -> Option<&DnsName> {
    match &record.data {
        RecordData::Cname(target) => Some(target),
        _ => None,
    }
}

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let (mut at, mut steps) = (target(record), 0);
        while let Some(name) = at.filter(|name| **name != record.owner && steps < MOST_STEPS) {
            at = zone.at(name).iter().find_map(|next| target(next));
            steps += 1;
        }
        if at.is_some_and(|name| *name == record.owner) {
            let name = record.owner.bare();
            let what = if steps == 0 { "itself".to_string() } else { format!("itself, by {steps} more") };
            let message = format!("{name} is an alias for {what}");
            findings.push(zone.on(record, TEXT.finding(&name, message, "let it lead to a name with records")));
        }
    }
    findings
}
