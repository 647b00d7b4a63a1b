//! More data at one name than any answer can hold.

use std::collections::BTreeMap;

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{Field, Record, RecordData};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "set-too-large",
    severity: Severity::Fault,
    what: "The records of one name and type have more than 65,535 bytes together.",
    why: "A set is answered as a whole, and no message of the DNS is longer. Servers refuse to load the zone.",
    cure: "Take records away, or spread them over several names.",
    source: "RFC 1035 section 4.2.2, RFC 2181 section 5",
};

const MOST: usize = 65_535;
/// What is left in a message for the data of one record, beside its header and what stands before the data.
const MOST_OF_ONE: usize = 65_510;
/// What a server keeps beside a set, and beside each record.
const BESIDE: usize = 2;

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        if records.iter().map(|record| at_most(record)).sum::<usize>() <= MOST_OF_ONE {
            continue;
        }
        let mut sizes = BTreeMap::new();
        for record in records {
            let size = sizes.entry((record.record_type(), record.data.covered())).or_insert(BESIDE);
            let fitted = *size <= MOST;
            let own = record.data.to_wire().len();
            *size += if own > MOST_OF_ONE { MOST } else { BESIDE + own };
            if fitted && *size > MOST {
                let (name, kind) = (owner.bare(), record.record_type());
                let message = format!("the {kind} records of {name} have more than {MOST} bytes together");
                findings
                    .push(zone.on(record, TEXT.finding(&name, message, format!("take {kind} records of {name} away"))));
            }
        }
    }
    findings
}

/// A bound that costs little: most sets are small.
fn at_most(record: &Record) -> usize {
    const SHORT: usize = 600;
    match &record.data {
        RecordData::Txt(strings) => strings.iter().map(|string| 1 + string.len()).sum::<usize>() + BESIDE,
        RecordData::Fields { fields, .. } => SHORT + fields.iter().map(long_part).sum::<usize>(),
        RecordData::Verbatim { text, .. } => SHORT + text.len(),
        RecordData::Unknown { data, .. } => SHORT + data.len(),
        _ => SHORT,
    }
}

fn long_part(field: &Field) -> usize {
    match field {
        Field::Text(bytes) | Field::Hex(bytes) | Field::Base64(bytes) | Field::Special { wire: bytes, .. } => {
            bytes.len()
        }
        Field::Parameters(_) => MOST,
        // Each in a window of its own, at worst.
        Field::Types(types) => 34 * types.len(),
        _ => 8,
    }
}
