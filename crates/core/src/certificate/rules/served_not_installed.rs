//! Another certificate is shown than the one installed.

use super::Rule;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-not-installed",
    severity: Severity::Risk,
    what: "The certificate that the server shows is not the one that this harbor has installed for the \
          host.",
    why: "The web server may not have been reloaded, or another server answers; what is renewed here does \
          not reach visitors.",
    cure: "Reload the web server, and see which server answers at that address (brightharbor survey).",
    source: "RFC 6066 section 3",
};

fn check(served: &Served, installed: &Installed) -> Vec<Finding> {
    let (Some(leaf), Some(wanted)) = (served.chain.first(), &installed.leaf) else { return vec![] };
    if leaf.der == *wanted {
        return vec![];
    }
    let message =
        format!("{} shows a certificate until {}, which is not the one installed here", served.address, leaf.not_after);
    vec![TEXT.finding(&served.host, message, "reload the web server, or see which server answers there")]
}
