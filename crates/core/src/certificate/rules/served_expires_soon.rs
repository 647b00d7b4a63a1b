//! The certificate runs out soon.

use super::Rule;
use crate::certificate::{Installed, Served, ends_soon};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-expires-soon",
    severity: Severity::Risk,
    what: "Less than a week of the certificate is left, and less than a sixth of its life.",
    why: "Whatever renews it should have done so long before. When it has expired, every visitor is \
          warned.",
    cure: "See why it was not renewed, and renew it: brightharbor tend, or certificate issue.",
    source: "RFC 9325 section 4",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let Some(leaf) = served.chain.first() else { return vec![] };
    if !ends_soon(leaf.not_before, leaf.not_after, served.seen_at) {
        return vec![];
    }
    let message = format!("the certificate expires at {}", leaf.not_after);
    vec![TEXT.finding(&served.host, message, "see why it was not renewed, and renew it")]
}
