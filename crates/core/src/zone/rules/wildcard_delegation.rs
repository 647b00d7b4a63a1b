//! A wildcard is delegated.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordType;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "wildcard-delegation",
    severity: Severity::Fault,
    what: "A name that begins with `*` has an NS record.",
    why: "What a delegated wildcard means is not defined; servers refuse to load the zone.",
    cure: "Delegate each name separately.",
    source: "RFC 4592 section 4.2",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let wild = zone.owners().filter(|(owner, _)| owner.labels().next() == Some(b"*"));
    let delegated = wild.filter(|(owner, _)| zone.of_type(owner, RecordType::NS).next().is_some());
    delegated
        .map(|(owner, _)| {
            let message = format!("{} is a wildcard and has an NS record", owner.bare());
            let record = zone.of_type(owner, RecordType::NS).next();
            zone.on_any(record, TEXT.finding(owner.bare(), message, "delegate each name separately"))
        })
        .collect()
}
