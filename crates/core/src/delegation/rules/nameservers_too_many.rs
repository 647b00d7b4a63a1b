//! The delegation names more nameservers than do any good.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameservers-too-many",
    severity: Severity::Risk,
    what: "The delegation names more than thirteen nameservers. Only the first of them were looked at.",
    why: "So many names with their addresses do not fit into one datagram: every resolver must ask again over TCP, and \
          the more servers there are, the sooner one of them is left behind with old data.",
    cure: "Keep three to seven nameservers in different networks, and take the others out at the registrar.",
    source: "RFC 2182 section 5, RFC 9210",
};

/// As many as the root has, which is the most that ever fitted.
const MOST: usize = 13;

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let count = picture.delegation().map_or(0, |answer| answer.nameservers.len());
    if count <= MOST {
        return vec![];
    }
    let message = format!("the delegation names {count} nameservers");
    vec![TEXT.finding(picture.domain.bare(), message, "keep three to seven of them")]
}
