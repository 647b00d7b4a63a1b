//! Nobody vouches for the certificate.

use super::Rule;
use crate::certificate::is_self_signed;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-not-trusted",
    severity: Severity::Fault,
    what: "The chain ends at a root that programs do not know, or at the certificate itself, which nobody \
          else has signed.",
    why: "Browsers show a warning page: anybody could have made this certificate.",
    cure: "Get a certificate from a CA that programs know; a self-signed one is a stop-gap for tests at \
          most.",
    source: "RFC 5280 section 6.1",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let Some(last) = served.chain.last().filter(|_| served.verified.is_err()) else { return vec![] };
    if !is_self_signed(last) {
        return vec![];
    }
    let message = match served.chain.len() {
        1 => format!("the certificate at {} is signed by nobody but itself", served.address),
        _ => format!("the chain at {} ends at {}, which programs do not know", served.address, last.subject),
    };
    vec![TEXT.finding(&served.host, message, "get a certificate from a CA that programs know")]
}
