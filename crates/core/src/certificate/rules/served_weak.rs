//! A certificate of the chain is too weak.

use super::Rule;
use super::shown;
use crate::certificate::is_self_signed;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-weak",
    severity: Severity::Fault,
    what: "A key of fewer than 2048 bits (RSA), or a signature with SHA-1 or MD5, in the chain that is \
          shown.",
    why: "Such keys and signatures can be forged with money. Browsers refuse them.",
    cure: "Have a new certificate issued, for a P-256 key or RSA with 2048 bits.",
    source: "RFC 9155, RFC 8017 section 8",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let weak = served.chain.iter().filter(|facts| !is_self_signed(facts) || served.chain.len() == 1);
    weak.filter_map(|facts| {
        let message = format!("{}: {}", shown(facts), facts.weakness()?);
        Some(TEXT.finding(&served.host, message, "have a new one issued, for a P-256 key"))
    })
    .collect()
}
