//! Records of a signed zone are not what was signed, or were signed by a strange key.

use super::{Expected, Rule, each_server, first_flaw};
use crate::delegation::{Flaw, Picture};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "signature-wrong",
    severity: Severity::Fault,
    what: "A nameserver gives records of a signed zone that do not fit their signature: they were altered after signing, \
          or signed by a key that may not sign them.",
    why: "Validating resolvers take such an answer for forged and give none: for a large part of all visitors the \
          name does not exist.",
    cure: "Sign the zone again with the keys that it publishes, and load it on all its servers; a signed zone is never edited \
          by hand.",
    source: "RFC 4035 section 5.3.3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| {
        let message = first_flaw(name, server, |flaw| matches!(flaw, Flaw::Altered { .. } | Flaw::Stranger { .. }))?;
        Some(TEXT.finding(
            name,
            message,
            "sign the zone again with the keys that it publishes, and load it on this server",
        ))
    })
}
