//! The certificate runs out soon.

use super::Rule;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};
use jiff::SignedDuration;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-expires-soon",
    severity: Severity::Risk,
    what: "Less than a tenth of the life of the certificate is left, and less than a week.",
    why: "Whatever renews it should have done so long before. When it has expired, every visitor is \
          warned.",
    cure: "See why it was not renewed, and renew it: brightharbor tend, or certificate issue.",
    source: "RFC 9325 section 4",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let Some(leaf) = served.chain.first() else { return vec![] };
    let left = leaf.not_after.duration_since(served.seen_at);
    let life = leaf.not_after.duration_since(leaf.not_before);
    if left.is_negative() || left > SignedDuration::from_hours(24 * 7) || left > life / 10 {
        return vec![];
    }
    let message = format!("the certificate expires at {}", leaf.not_after);
    vec![TEXT.finding(&served.host, message, "see why it was not renewed, and renew it")]
}
