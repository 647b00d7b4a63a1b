//! An address or mail exchanger at a name that no host can have.

use super::{Indexed, Rule, is_hostname};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordType;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "owner-not-a-hostname",
    severity: Severity::Fault,
    what: "A name with an A, AAAA or MX record has characters that a hostname cannot have, such as an underscore.",
    why: "Programs refuse to connect to such a name, and primary servers refuse to load the zone.",
    cure: "Use letters, digits and hyphens. Underscores belong to names that are not hosts, such as `_dmarc`.",
    source: "RFC 1123 section 2.1",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let host =
            records.iter().find(|r| matches!(r.record_type(), RecordType::A | RecordType::AAAA | RecordType::MX));
        let Some(record) = host.filter(|_| !is_hostname(owner, true)) else { continue };
        let name = owner.bare();
        let message = format!("{name} has an {} record and cannot be the name of a host", record.record_type());
        findings.push(TEXT.finding(&name, message, "use letters, digits and hyphens alone"));
    }
    findings
}
