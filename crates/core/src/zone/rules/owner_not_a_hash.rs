//! A record of hashed denial at a name that is no hash.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{RecordType, base32_hex};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "owner-not-a-hash",
    severity: Severity::Fault,
    what: "An NSEC3 record stands at a name that is not the hash of one.",
    why: "Its owner is the hash of a name, in base32, right below the apex. Servers refuse to load another.",
    cure: "Take the record out, and sign the zone again: it is made by the signer.",
    source: "RFC 5155 section 3",
};

/// What is left of whole bytes fills one of these many digits (RFC 4648 section 7); servers do not ask for the length of a
/// hash.
const DIGITS_OVER: [usize; 5] = [0, 2, 4, 5, 7];

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let is_hash = |label: &[u8]| {
        let digits = std::str::from_utf8(label).is_ok_and(|text| base32_hex(text).is_ok());
        digits && DIGITS_OVER.contains(&(label.len() % 8))
    };
    let hashed = zone.owners().filter(|(_, records)| records.iter().any(|one| one.record_type() == RecordType(50)));
    let wrong = hashed.filter(|(owner, _)| !owner.labels().next().is_some_and(is_hash));
    wrong
        .map(|(owner, records)| {
            let record = records.iter().find(|one| one.record_type() == RecordType(50));
            let message = format!("{} has an NSEC3 record, and is not a hash", owner.bare());
            zone.on_any(record.copied(), TEXT.finding(owner.bare(), message, "take it out, and sign the zone again"))
        })
        .collect()
}
