//! An alias with other data at the same name.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{RecordData, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "alias-beside-data",
    severity: Severity::Fault,
    what: "A name has a CNAME record and other records beside it, or two different CNAME records.",
    why: "A CNAME says that all data of the name stands elsewhere. Servers refuse to load the zone. At the apex it can \
          never be right, since SOA and NS must stand there.",
    cure: "Keep either the alias or the other records. At the apex use address records, or have the name served here \
           and redirected.",
    source: "RFC 1034 section 3.6.2, RFC 2181 section 10.1",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let mut aliases = records.iter().filter(|record| matches!(record.data, RecordData::Cname(_)));
        let Some(alias) = aliases.next() else { continue };
        let other = records.iter().find(|record| {
            // Signatures and their chain stand beside an alias (RFC 4034 section 3).
            record.data != alias.data && !matches!(record.record_type().0, 25 | 46 | 47)
        });
        let Some(other) = other else { continue };
        // Servers stumble over the one that comes last.
        let last = zone.later(alias, other);
        let name = owner.bare();
        let what = match other.record_type() {
            RecordType::CNAME => "a second CNAME record".to_string(),
            other => format!("a {other} record"),
        };
        let message = format!("{name} is an alias for {} and has {what} beside it", alias.data);
        findings.push(
            zone.on(last, TEXT.finding(&name, message, format!("at {name}, keep the alias or the other records"))),
        );
    }
    findings
}
