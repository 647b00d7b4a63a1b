//! The mailbox of the start of authority cannot be one.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "soa-mailbox",
    severity: Severity::Risk,
    what: "The second name of the SOA record is the mailbox of whoever keeps the zone, with a dot in place of the `@`. This one was written with an `@`, or without its final dot.",
    why: "Who wants to tell of a fault writes to nobody.",
    cure: "Write host.example. for host@example; a dot before the `@` as `\\.`.",
    source: "RFC 1035 sections 3.3.13, 8",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mailbox = &zone.zone.soa().hostmaster;
    let labels: Vec<&[u8]> = mailbox.labels().collect();
    let what = if labels.iter().any(|label| label.contains(&b'@')) {
        "has an `@`, where a dot belongs"
    } else if labels.len() < 2 {
        "has no domain"
    } else if is_repeated(&labels, zone) {
        "ends in the zone's name twice: it lacks its final dot"
    } else {
        return vec![];
    };
    let message = format!("the mailbox of the start of authority, {}, {what}", mailbox.bare());
    let finding = TEXT.finding(zone.apex().bare(), message, "write it as hostmaster.DOMAIN. with its final dot");
    vec![zone.on_any(zone.zone.soa_record(), finding)]
}

fn is_repeated(labels: &[&[u8]], zone: &Indexed<'_>) -> bool {
    let own: Vec<&[u8]> = zone.apex().labels().collect();
    let twice: Vec<&[u8]> = own.iter().chain(&own).copied().collect();
    !own.is_empty() && labels.ends_with(&twice)
}
