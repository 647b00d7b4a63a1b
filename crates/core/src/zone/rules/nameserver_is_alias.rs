//! A nameserver's name is an alias.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{RecordData, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameserver-is-alias",
    severity: Severity::Fault,
    what: "An NS record at the apex names an alias (CNAME).",
    why: "The name of a nameserver must lead to addresses directly; resolvers may give up at an alias, and primary \
          servers refuse to load the zone.",
    cure: "Name the host itself in the NS record, or give the name address records instead of the CNAME.",
    source: "RFC 2181 section 10.3",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.of_type(zone.apex(), RecordType::NS) {
        let RecordData::Ns(target) = &record.data else { continue };
        if zone.is_alias(target) {
            let name = target.bare();
            let message = format!("the nameserver {name} is an alias");
            findings.push(
                zone.on(
                    record,
                    TEXT.finding(&name, message, format!("give {name} address records instead of the CNAME")),
                ),
            );
        }
    }
    findings
}
