//! A TTL so short or so long that it hurts.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::show_seconds;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ttl-extreme",
    severity: Severity::Note,
    what: "A set of records has a TTL of more than a week, or of less than half a minute.",
    why: "With a long TTL a mistake, or a move, is seen by some visitors for that long. With a very short one every \
          visit waits for the nameservers, which have to answer far more often.",
    cure: "An hour to a day is good for most; a few minutes before a move.",
    source: "RFC 1912 section 2.2, RFC 2181 section 8",
};

const WEEK: u32 = 7 * 86_400;

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings: Vec<Finding> = Vec::new();
    for record in zone.records().filter(|record| record.ttl > WEEK || record.ttl < 30) {
        let (name, kind) = (record.owner.bare(), record.record_type());
        let message = format!("the {kind} records of {name} have a TTL of {}", show_seconds(record.ttl.into()));
        if findings.last().is_none_or(|last| last.message != message) {
            findings.push(zone.on(record, TEXT.finding(&name, message, "an hour to a day is good for most")));
        }
    }
    findings
}
