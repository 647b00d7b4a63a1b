//! The parent zone has no delegation for the domain.

use super::{Expected, Rule};
use crate::delegation::{Picture, Registered};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "not-registered",
    severity: Severity::Fault,
    what: "The servers of the parent zone answer with authority that the domain has no delegation.",
    why: "Without a delegation no resolver can find any name of the domain. Either it is not registered, the \
          registration has lapsed, or it was registered without nameservers.",
    cure: "Register the domain, or renew it, and give the registrar the nameservers. A change at the registrar is \
           visible at the parent's servers when the registry next publishes its zone: minutes for most.",
    source: "RFC 1034 section 4.2.2",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    if picture.registered != Registered::No {
        return vec![];
    }
    let domain = picture.domain.bare();
    let parent = picture.parent_zone.bare();
    let names = match expected.nameservers.is_empty() {
        true => "its nameservers".to_string(),
        false => format!("the nameservers {}", super::listed(&expected.nameservers)),
    };
    // A reverse zone, or one below somebody's domain, is not registered anywhere: the zone above has its NS records.
    let cure = match picture.is_in_registry() {
        true => format!("register or renew it, with {names}"),
        false => format!("ask whoever keeps the zone {parent} to delegate {domain}, with {names}"),
    };
    vec![TEXT.finding(&domain, format!("the zone {parent} does not delegate {domain}"), cure)]
}
