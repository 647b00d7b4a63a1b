//! The certificate has run out, or is not valid yet.

use super::Rule;
use super::shown;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-expired",
    severity: Severity::Fault,
    what: "The time that the certificate is valid for is over, or has not come.",
    why: "Browsers show a warning page; programs that fetch pages or deliver mail give up.",
    cure: "Renew the certificate and have it installed; see that renewing runs regularly, and that clocks \
          are right.",
    source: "RFC 5280 section 4.1.2.5",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let mut findings = Vec::new();
    for facts in &served.chain {
        let message = match () {
            () if served.seen_at >= facts.not_after => format!("{} expired at {}", shown(facts), facts.not_after),
            () if served.seen_at < facts.not_before => {
                format!("{} is valid from {} on", shown(facts), facts.not_before)
            }
            () => continue,
        };
        findings.push(TEXT.finding(&served.host, message, "renew it and have it installed"));
    }
    findings
}
