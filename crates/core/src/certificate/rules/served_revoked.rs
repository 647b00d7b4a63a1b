//! The CA has revoked the certificate.

use super::Rule;
use super::shown;
use crate::certificate::{Installed, RevocationStatus, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-revoked",
    severity: Severity::Fault,
    what: "The CA says that the certificate that is shown is revoked.",
    why: "Browsers that look into it show a warning page that nobody can pass; others do so as soon as they hear of it. Its key \
          may be known to somebody else.",
    cure: "Get another certificate with another key, and have it installed. For a site of this harbor: brightharbor certificate \
           revoke HOSTNAME, which gets the successor first.",
    source: "RFC 5280 section 5, RFC 9608",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let (RevocationStatus::Revoked { since, reason }, Some(leaf)) = (&served.revocation, served.chain.first()) else {
        return vec![];
    };
    let reason = reason.as_ref().map(|reason| format!(" ({reason})")).unwrap_or_default();
    let message = format!("{} is revoked since {since}{reason}", shown(leaf));
    vec![TEXT.finding(&served.host, message, "get another one with another key")]
}
