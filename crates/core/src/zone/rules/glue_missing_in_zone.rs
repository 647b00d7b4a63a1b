//! A delegation to a nameserver below the cut, without its address.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "glue-missing-in-zone",
    severity: Severity::Risk,
    what: "A name below this zone is delegated to a nameserver that lies below it too, and its address is missing here.",
    why: "To ask that server its address one would have to ask that server. The delegation cannot be followed.",
    cure: "Add the address record of the nameserver beside the delegation (glue).",
    source: "RFC 1034 section 4.2.1, RFC 9471",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records().filter(|record| record.owner != *zone.apex()) {
        let RecordData::Ns(target) = &record.data else { continue };
        // A wildcard gives no glue: what lies below a cut is answered elsewhere.
        let has_glue = || zone.at(target).iter().any(|record| record.data.address().is_some());
        if target.is_within(&record.owner) && !has_glue() {
            let (cut, name) = (record.owner.bare(), target.bare());
            let message = format!("{cut} is delegated to {name}, which lies below it and has no address here");
            findings.push(zone.on(record, TEXT.finding(&cut, message, format!("add an address record for {name}"))));
        }
    }
    findings
}
