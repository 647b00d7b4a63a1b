//! An alias leads to a name of the zone that is not there.

use super::{Indexed, Rule, dot_forgotten};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "alias-to-nothing",
    severity: Severity::Risk,
    what: "A CNAME record names a target in this zone that has no records.",
    why: "Whoever follows the alias finds nothing.",
    cure: "Add the records of the target, correct its name, or add the final dot if it lies elsewhere.",
    source: "RFC 1034 section 3.6.2",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Cname(target) = &record.data else { continue };
        let here = target.is_within(zone.apex()) && zone.cut_above(target).is_none();
        if here
            && zone.at(target).is_empty()
            && zone.covering_wildcard(target).is_none()
            && dot_forgotten::meant(zone, target).is_none()
        {
            let (owner, target) = (record.owner.bare(), target.bare());
            let message = format!("{owner} is an alias for {target}, which is not in this zone");
            let cure = format!("add records for {target}, or correct the name in the alias");
            findings.push(zone.on(record, TEXT.finding(&owner, message, cure)));
        }
    }
    findings
}
