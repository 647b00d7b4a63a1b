//! There is only one nameserver.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "single-nameserver",
    severity: Severity::Risk,
    what: "The delegation names a single nameserver.",
    why: "When that one machine or its network fails, the domain and all its mail are gone; nobody can \
          even find out where they would be.",
    cure: "Add a second nameserver in another network, and have it transfer the zone.",
    source: "RFC 1034 section 4.1, RFC 2182 section 5",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let [only] = &picture.delegated_names()[..] else { return vec![] };
    let message = format!("{} is the only nameserver", only.bare());
    vec![TEXT.finding(picture.domain.bare(), message, "add a second nameserver in another network")]
}
