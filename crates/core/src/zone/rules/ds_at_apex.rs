//! The parent's record for a key stands in the zone itself.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordType;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ds-at-apex",
    severity: Severity::Fault,
    what: "The zone has a DS record at its own name.",
    why: "DS records belong to the zone above, which vouches with them for the keys of this one. Servers refuse to load a \
          zone that vouches for itself.",
    cure: "Take it out here, and have it entered at the registrar.",
    source: "RFC 4035 section 2.4",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let apex = zone.zone.origin();
    let records = zone.owners().filter(|(owner, _)| *owner == apex).flat_map(|(_, records)| records.iter());
    let ds: Vec<String> =
        records.filter(|record| record.record_type() == RecordType::DS).map(|record| record.data.to_string()).collect();
    match ds.is_empty() {
        true => vec![],
        false => {
            let message = format!("{} has a DS record of its own: {}", apex.bare(), ds.join(", "));
            let finding = TEXT.finding(apex.bare(), message, "take it out here, and enter it at the registrar");
            vec![zone.on_any(zone.of_type(apex, RecordType::DS).next(), finding)]
        }
    }
}
