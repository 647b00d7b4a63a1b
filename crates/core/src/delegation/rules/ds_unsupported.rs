//! The DS records are of kinds that resolvers do not know.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ds-unsupported",
    severity: Severity::Risk,
    what: "All DS records at the parent are for an algorithm or a digest that validating resolvers do not \
          support any more, or not yet.",
    why: "Resolvers treat the zone as if it were not signed: the work of signing it is for nothing.",
    cure: "Sign the zone with a present algorithm (13 is a good choice), publish its DS record with digest \
          2, and take the old one away.",
    source: "RFC 8624 section 3.1 and section 3.3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    if picture.ds.is_empty() || picture.ds.iter().any(|ds| ds.is_supported()) {
        return vec![];
    }
    let kinds = picture.ds.iter().map(|ds| format!("algorithm {} with digest {}", ds.algorithm, ds.digest_type));
    let message =
        format!("the DS records are of kinds that resolvers do not use: {}", kinds.collect::<Vec<_>>().join(", "));
    vec![TEXT.finding(picture.domain.bare(), message, "sign the zone with algorithm 13, and replace the DS record")]
}
