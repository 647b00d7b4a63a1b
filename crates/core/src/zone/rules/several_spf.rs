//! More than one SPF policy at a name.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "several-spf",
    severity: Severity::Risk,
    what: "A name has more than one TXT record that begins with `v=spf1`.",
    why: "Receivers must treat that as an error: the policy counts as broken, and mail may be refused.",
    cure: "Join them into one record: one `v=spf1`, all mechanisms, one `all` at the end.",
    source: "RFC 7208 section 4.5",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let policies = records.iter().filter(|record| match &record.data {
            RecordData::Txt(strings) => {
                let mut bytes = strings.iter().flatten();
                bytes.by_ref().take(6).eq(b"v=spf1") && matches!(bytes.next(), None | Some(b' '))
            }
            _ => false,
        });
        let policies: Vec<_> = policies.collect();
        let count = policies.len();
        if count > 1 {
            let name = owner.bare();
            let message = format!("{name} has {count} SPF policies; one is allowed");
            let finding = TEXT.finding(&name, message, "join them into one record");
            findings.push(zone.on_any(policies.get(1).map(|record| **record), finding));
        }
    }
    findings
}
