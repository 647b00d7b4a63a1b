//! The certificates of the chain are not in order.

use super::Rule;
use super::shown;
use crate::certificate::has_signed;
use crate::certificate::{CertificateFacts, Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "chain-out-of-order",
    severity: Severity::Risk,
    what: "A certificate in the chain has not signed the one before it.",
    why: "Browsers sort such a chain; older programs and devices do not, and fail.",
    cure: "Put the certificates into the order leaf, issuer, issuer of the issuer, and leave out what does \
          not belong there.",
    source: "RFC 5246 section 7.4.2",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    // A signature that cannot be checked any more is another matter: then the names tell.
    let stands_above = |issuer: &CertificateFacts, subject: &CertificateFacts| {
        has_signed(issuer, subject) || subject.is_weakly_signed() && subject.issuer == issuer.subject
    };
    let pair = served.chain.windows(2).find(|pair| !stands_above(&pair[1], &pair[0]));
    let Some(pair) = pair else { return vec![] };
    let message = format!("{} comes after {}, and has not signed it", shown(&pair[1]), shown(&pair[0]));
    vec![TEXT.finding(&served.host, message, "put the chain in order: brightharbor certificate import does so")]
}
