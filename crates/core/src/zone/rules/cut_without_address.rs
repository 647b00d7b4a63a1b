//! A delegation inside the zone leads to a name of the zone without address.

use super::{Indexed, Rule, dot_forgotten};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "cut-without-address",
    severity: Severity::Risk,
    what: "A name below this zone is delegated to a nameserver of this zone that has no address here.",
    why: "Nobody finds the server, so the delegated names are gone.",
    cure: "Add the address record of the nameserver, or the final dot that its NS record lacks.",
    source: "RFC 1034 section 4.2.1",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records().filter(|record| record.owner != *zone.apex()) {
        let RecordData::Ns(target) = &record.data else { continue };
        // Below the cut itself it is `glue-missing-in-zone`.
        let here = target.is_within(zone.apex()) && zone.cut_above(target).is_none();
        let forgotten = || dot_forgotten::meant(zone, target).is_some();
        if here && !zone.has_address(target) && !zone.is_alias(target) && !forgotten() {
            let (cut, name) = (record.owner.bare(), target.bare());
            let message = format!("{cut} is delegated to {name}, which has no address in this zone");
            let cure = format!("add an address record for {name}, or the final dot that the NS record lacks");
            findings.push(zone.on(record, TEXT.finding(&cut, message, cure)));
        }
    }
    findings
}
