//! What the zone asks its parent to publish does not fit the keys that it has.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{Field, Record, RecordData, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "child-keys-disagree",
    severity: Severity::Fault,
    what: "A CDS or CDNSKEY record is of an algorithm that no key of the zone has, or one asks to take all keys away beside \
           others.",
    why: "The parent would publish a DS record that no key answers to, and the domain would be gone for everybody who \
          validates. Servers refuse to load the zone.",
    cure: "Write the CDS and CDNSKEY records of the keys that the zone has, or the one that takes all away, alone.",
    source: "RFC 7344 section 4.1, RFC 8078 section 4",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let keys: Vec<u32> = zone.of_type(zone.apex(), RecordType::DNSKEY).filter_map(|key| number(key, 2)).collect();
    let kinds = [(RecordType::CDS, 1), (RecordType::CDNSKEY, 2)];
    let found = kinds.into_iter().filter_map(|(kind, algorithm_at)| wrong(zone, kind, algorithm_at, &keys));
    found
        .map(|(record, what)| {
            let (name, kind) = (record.owner.bare(), record.record_type());
            let cure = format!("correct the {kind} records of {name}, or take them out");
            zone.on(record, TEXT.finding(&name, format!("a {kind} record of {name} {what}"), cure))
        })
        .collect()
}

fn wrong<'a>(
    zone: &Indexed<'a>,
    kind: RecordType,
    algorithm_at: usize,
    keys: &[u32],
) -> Option<(&'a Record, &'static str)> {
    let takes_away = |record: &&Record| matches!(&record.data.to_wire()[..], [0, 0, 0 | 3, 0, 0]);
    let (takes_away, names): (Vec<&Record>, Vec<&Record>) = zone.of_type(zone.apex(), kind).partition(takes_away);
    if let Some(record) = names.first().filter(|_| !takes_away.is_empty()) {
        return Some((record, "stands beside one that takes all keys away"));
    }
    let is_strange =
        |record: &&&Record| number(record, algorithm_at).is_none_or(|algorithm| !keys.contains(&algorithm));
    names.iter().find(is_strange).map(|record| (*record, "is of an algorithm that no key of the zone has"))
}

fn number(record: &Record, at: usize) -> Option<u32> {
    match &record.data {
        RecordData::Fields { fields, .. } => match fields.get(at) {
            Some(Field::Number(number)) => Some(*number),
            _ => None,
        },
        _ => None,
    }
}
