//! Nobody vouches for the certificate.

use super::Rule;
use crate::certificate::{Distrust, Installed, Served, is_self_signed};
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
    // Names and dates have rules of their own, and so has a chain that ends too early.
    let Some(last) = served.chain.last() else { return vec![] };
    match &served.verified {
        Err(Distrust::UnknownIssuer) if is_self_signed(last) => {}
        Err(Distrust::Other(why)) => {
            let message = format!("the certificate at {} is not taken: {why}", served.address);
            return vec![TEXT.finding(&served.host, message, "get a certificate from a CA that programs know")];
        }
        _ => return vec![],
    }
    let message = match served.chain.len() {
        1 => format!("the certificate at {} is signed by nobody but itself", served.address),
        _ => format!("the chain at {} ends at {}, which programs do not know", served.address, last.subject),
    };
    vec![TEXT.finding(&served.host, message, "get a certificate from a CA that programs know")]
}
