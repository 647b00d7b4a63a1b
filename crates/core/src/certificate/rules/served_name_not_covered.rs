//! The certificate does not cover the host.

use super::Rule;
use crate::certificate::covers;
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::Host;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-name-not-covered",
    severity: Severity::Fault,
    what: "None of the names in the certificate that is shown is the host that was asked for.",
    why: "Browsers show a warning page that most visitors turn away from: they cannot tell a slip from an \
          attack.",
    cure: "Have a certificate issued that names the host, and see that the web server shows it for that \
          host (SNI).",
    source: "RFC 9525 section 6.3",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let (Some(leaf), Ok(host)) = (served.chain.first(), Host::parse(&served.host)) else { return vec![] };
    if covers(&leaf.names, &host) {
        return vec![];
    }
    let names = if leaf.names.is_empty() { "no names".to_string() } else { leaf.names.join(", ") };
    let message = format!("the certificate at {} covers {names}, not {host}", served.address);
    vec![TEXT.finding(&host, message, format!("have {host} named in the certificate, or show another one for it"))]
}
