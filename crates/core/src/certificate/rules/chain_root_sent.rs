//! The root is sent along.

use super::Rule;
use crate::certificate::is_self_signed;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "chain-root-sent",
    severity: Severity::Note,
    what: "The chain contains a root certificate, which signs itself.",
    why: "Programs use the root that they know, never one that is sent: it costs every handshake a \
          kilobyte and gives nothing.",
    cure: "Leave the root out of the chain file.",
    source: "RFC 8446 section 4.4.2",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let root = served.chain.iter().skip(1).find(|facts| is_self_signed(facts));
    let Some(root) = root else { return vec![] };
    let message = format!("the root {} is sent along at {}", root.subject, served.address);
    vec![TEXT.finding(&served.host, message, "leave it out of the chain file")]
}
