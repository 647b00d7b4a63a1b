//! The domain is delegated to this harbor, which has no zone for it.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::delegation::Registered;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "delegated-here-without-zone",
    severity: Severity::Fault,
    what: "The parent delegates the domain to nameservers of this harbor, and the harbor keeps no such \
          zone.",
    why: "The nameservers refuse to answer for it: nothing of the domain can be found. It is also an \
          invitation to whoever can have the zone made here.",
    cure: "Make the zone (`zone create` or `attach`), or have the delegation removed at the registrar.",
    source: "RFC 1912 section 2.8",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let ours: Vec<String> = picture
        .delegated_names()
        .iter()
        .filter(|name| expected.own_nameservers.contains(name))
        .map(|name| name.bare())
        .collect();
    // One that answers has a zone that somebody keeps by hand.
    let answers = super::ours(picture, expected).any(|(_, answers)| answers);
    if answers || expected.zone_here != Some(false) || ours.is_empty() || picture.registered != Registered::Yes {
        return vec![];
    }
    let domain = picture.domain.bare();
    let message = format!("{domain} is delegated to {}, and there is no zone for it here", ours.join(", "));
    vec![TEXT.finding(&domain, message, format!("make it: brightharbor zone create {domain} --account ACCOUNT"))]
}
