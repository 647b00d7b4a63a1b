//! A nameserver set has no room for more domains.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameserver-set-full",
    severity: Severity::Risk,
    what: "The nameserver set that the domain uses has as many domains as it was made for, or more.",
    why: "A set that was planned for so many domains may answer slowly, or its secondaries may take longer \
          to follow.",
    cure: "Make another set (`nameserver add`) for new domains, or raise the capacity of this one.",
    source: "RFC 2182 section 5",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let Some(load) = expected.load.as_ref().filter(|load| load.domains >= load.capacity) else { return vec![] };
    let message =
        format!("the nameserver set {} has {} domains, and was made for {}", load.set, load.domains, load.capacity);
    vec![TEXT.finding(picture.domain.bare(), message, "make another set for new domains: brightharbor nameserver add")]
}
