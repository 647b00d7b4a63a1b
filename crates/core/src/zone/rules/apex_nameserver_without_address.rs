//! A nameserver of the zone lies in it and has no address there.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{RecordData, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "apex-nameserver-without-address",
    severity: Severity::Fault,
    what: "A nameserver that the zone names for itself lies in the zone and has no address record.",
    why: "Nobody can find that nameserver, and primary servers refuse to load the zone. Most often the final dot is \
          missing: `ns1.provider.example` without it means a name below this zone.",
    cure: "Add its A or AAAA record, or the missing final dot, or take the NS record away.",
    source: "RFC 1034 section 4.2.1, RFC 1912 section 2.3",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.of_type(zone.apex(), RecordType::NS) {
        let RecordData::Ns(target) = &record.data else { continue };
        let here = target.is_within(zone.apex()) && zone.cut_above(target).is_none();
        if here && !zone.has_address(target) && !zone.is_alias(target) {
            let name = target.bare();
            let message = format!("the nameserver {name} lies in the zone and has no address there");
            let cure = format!("add an address record for {name}, or the final dot that its NS record lacks");
            findings.push(zone.on(record, TEXT.finding(&name, message, cure)));
        }
    }
    findings
}
