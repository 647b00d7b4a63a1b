//! The zone names no nameserver for itself.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordType;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "no-nameserver",
    severity: Severity::Fault,
    what: "The zone has no NS record at its apex.",
    why: "A zone must say who serves it. Servers refuse to load it without, and the zone is gone at the next reload.",
    cure: "Add an NS record for every nameserver of the domain: `@ NS ns1.example.`",
    source: "RFC 1034 section 4.2.1",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let apex = zone.apex();
    if zone.of_type(apex, RecordType::NS).next().is_some() {
        return vec![];
    }
    vec![TEXT.finding(apex.bare(), format!("{} has no NS record at its apex", apex.bare()), "add `@ NS NAMESERVER`")]
}
