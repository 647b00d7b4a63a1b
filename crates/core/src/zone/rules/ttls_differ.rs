//! Two TTLs in one record set.

use std::collections::BTreeMap;

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordType;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ttls-differ",
    severity: Severity::Note,
    what: "Records of one name and type have different TTLs.",
    why: "A set has one TTL: servers make the TTLs equal, each in its own way, so that some records live longer or \
          shorter than written.",
    cure: "Write the same TTL on all records of the name and type.",
    source: "RFC 2181 section 5.2",
};

/// Signatures take the TTL of what they sign.
const RRSIG: RecordType = RecordType(46);

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let Some((first, rest)) = records.split_first() else { continue };
        if rest.iter().all(|record| record.ttl == first.ttl) {
            continue;
        }
        let mut ttls: BTreeMap<RecordType, Vec<u32>> = BTreeMap::new();
        for record in records.iter().filter(|record| record.record_type() != RRSIG) {
            let of_set = ttls.entry(record.record_type()).or_default();
            if !of_set.contains(&record.ttl) {
                of_set.push(record.ttl);
            }
        }
        for (kind, ttls) in ttls.iter().filter(|(_, ttls)| ttls.len() > 1) {
            let name = owner.bare();
            let words = ttls.iter().map(u32::to_string).collect::<Vec<_>>().join(" and ");
            let message = format!("the {kind} records of {name} have the TTLs {words}");
            let mut of_set = records.iter().filter(|record| record.record_type() == *kind);
            let first = of_set.next().map(|record| record.ttl);
            let other = of_set.find(|record| Some(record.ttl) != first);
            findings.push(zone.on_any(other.copied(), TEXT.finding(&name, message, "write the same TTL on each")));
        }
    }
    findings
}
