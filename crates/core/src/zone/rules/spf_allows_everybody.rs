//! A sender policy that lets everybody send.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "spf-allows-everybody",
    severity: Severity::Risk,
    what: "The SPF policy ends in `+all` or `all`: every machine of the world may send mail for the domain.",
    why: "Whoever forges the domain is vouched for, and other receivers stop trusting it.",
    cure: "End it in -all or ~all.",
    source: "RFC 7208 section 5.1",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Txt(strings) = &record.data else { continue };
        if !strings.iter().flatten().take(7).eq(b"v=spf1 ") {
            continue;
        }
        let text = String::from_utf8_lossy(&strings.concat()).to_ascii_lowercase();
        // What stands behind it is never looked at.
        let all = text.split(' ').find(|term| term.trim_start_matches(['+', '-', '~', '?']) == "all");
        if let Some(term @ ("all" | "+all")) = all {
            let name = record.owner.bare();
            let message = format!("the SPF policy of {name} allows everybody to send (`{term}`)");
            findings.push(zone.on(record, TEXT.finding(&name, message, "end it in -all or ~all")));
        }
    }
    findings
}
