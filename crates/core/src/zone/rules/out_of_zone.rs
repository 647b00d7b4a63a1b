//! A line is about a name outside the zone.

use super::{Indexed, Rule};
use crate::finding::{Finding, Place, RuleText, Severity};
use crate::zone::Item;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "out-of-zone",
    severity: Severity::Risk,
    what: "A line is about a name that does not lie in this zone.",
    why: "Servers ignore such lines.",
    cure: "Enter it in the zone that the name lies in, or correct the name: a final dot too many, or another $ORIGIN.",
    source: "RFC 1035 section 5.2",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let outside = zone.zone.entries().iter().filter_map(|entry| match &entry.item {
        Item::OutOfZone(owner) => Some((entry.line(), owner)),
        _ => None,
    });
    outside
        .map(|(line, owner)| {
            let message = format!("{} lies outside the zone: servers ignore the line", owner.bare());
            let finding = TEXT.finding(owner.bare(), message, "enter it in its own zone, or correct the name");
            Finding { place: Some(Place { line, column: 1 }), ..finding }
        })
        .collect()
}
