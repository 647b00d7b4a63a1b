//! The record for no mail stands beside mail servers.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "null-mx-beside-others",
    severity: Severity::Risk,
    what: "A name has the MX record that says that it takes no mail, and others beside it.",
    why: "Senders read both that there is no mail and where to deliver it. Some refuse, some deliver.",
    cure: "Keep either the one with `.` or the others.",
    source: "RFC 7505 section 3",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let (mut null, mut others) = (None, false);
        for record in records {
            match &record.data {
                RecordData::Mx { exchange, .. } if exchange.is_root() => null = Some(*record),
                RecordData::Mx { .. } => others = true,
                _ => {}
            }
        }
        if let Some(null) = null.filter(|_| others) {
            let name = owner.bare();
            let message = format!("{name} says that it takes no mail (`MX 0 .`), and names mail servers");
            findings.push(zone.on(null, TEXT.finding(&name, message, "keep the one or the others")));
        }
    }
    findings
}
