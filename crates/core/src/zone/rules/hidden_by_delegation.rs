//! Data below a delegation, which nobody gets.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{RecordData, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "hidden-by-delegation",
    severity: Severity::Risk,
    what: "A record stands at or below a name that is delegated to other nameservers.",
    why: "This zone ends at the delegation: the servers refer to the other nameservers and never give this record out.",
    cure: "Enter the record in the delegated zone, or take the delegation away. Addresses of nameservers stay (glue).",
    source: "RFC 1034 section 4.2.1",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let nameservers: std::collections::HashSet<_> = zone
        .records()
        .filter_map(|record| if let RecordData::Ns(target) = &record.data { Some(target) } else { None })
        .collect();
    for (owner, records) in zone.owners() {
        let Some(cut) = zone.cut_above(owner) else { continue };
        let hidden = records.iter().find(|record| match record.record_type() {
            RecordType::A | RecordType::AAAA => !nameservers.contains(owner),
            // What belongs to the cut itself: the delegation and its signatures.
            RecordType(2 | 43 | 46 | 47 | 50) => *owner != cut,
            _ => true,
        });
        if let Some(record) = hidden {
            let (name, cut) = (owner.bare(), cut.bare());
            let message = format!("the {} record of {name} is hidden by the delegation of {cut}", record.record_type());
            findings.push(zone.on(record, TEXT.finding(&name, message, format!("enter it in the zone {cut}"))));
        }
    }
    findings
}
