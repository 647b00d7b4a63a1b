//! A line that makes the TTLs of a zone count down.

use super::{Indexed, Rule};
use crate::finding::{Finding, Place, RuleText, Severity};
use crate::zone::Item;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ttls-count-down",
    severity: Severity::Risk,
    what: "A `$DATE` line stands in the zone.",
    why: "BIND writes it into dumps of its cache. Where it reads one, it takes the time since that moment off every TTL \
          behind the line, down to 0; other servers refuse the zone. Here the TTLs are shown as they are written.",
    cure: "Take the line out.",
    source: "RFC 1035 section 5.1, which has no such line",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let dated = zone.zone.entries().iter().filter(|entry| matches!(entry.item, Item::Dated));
    let name = zone.apex().bare();
    dated
        .map(|entry| {
            let message = format!("the TTLs of {name} behind `$DATE` count down");
            let finding = TEXT.finding(&name, message, "take the `$DATE` line out");
            Finding { place: Some(Place { line: entry.line(), column: 1 }), ..finding }
        })
        .collect()
}
