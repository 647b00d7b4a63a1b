//! The certificate covers the host, and not all that is attached beside it.

use super::Rule;
use crate::certificate::{Installed, Served, covers, uncovered};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::Host;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "site-name-not-covered",
    severity: Severity::Risk,
    what: "The certificate that is shown covers the host, and not all other hostnames of the same site.",
    why: "Whoever types one of the others, the one with `www.` say, meets a warning page: it looks done and is not.",
    cure: "Have a certificate issued for all names of the site (brightharbor certificate issue), once their DNS points to this server.",
    source: "RFC 9525 section 6.3",
};

fn check(served: &Served, installed: &Installed) -> Vec<Finding> {
    let (Some(leaf), Ok(host)) = (served.chain.first(), Host::parse(&served.host)) else { return vec![] };
    let left = uncovered(&leaf.names, &installed.beside);
    if left.is_empty() || !covers(&leaf.names, &host) {
        return vec![];
    }
    let names = left.iter().take(5).map(|name| name.as_str()).collect::<Vec<_>>().join(", ");
    let more = if left.len() > 5 { format!(" and {} more", left.len() - 5) } else { String::new() };
    let message = format!("the certificate at {} leaves out other names of the site: {names}{more}", served.address);
    vec![TEXT.finding(&served.host, message, format!("brightharbor certificate issue {host}"))]
}
