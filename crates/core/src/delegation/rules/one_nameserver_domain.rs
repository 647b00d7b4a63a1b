//! All nameservers have names under one domain.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};
use crate::name::{DnsName, Hostname, registrable_domain};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "one-nameserver-domain",
    severity: Severity::Note,
    what: "The names of all nameservers lie under one domain, which is not the domain itself.",
    why: "If that one domain lapses or is misconfigured, all domains that depend on it are gone with it. \
          Most providers work so, and it is no fault; it is worth knowing.",
    cure: "Nothing has to be done. Whoever wants more safety names a nameserver under another domain as \
          well.",
    source: "RFC 2182 section 3, RFC 9199 section 3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let names = picture.delegated_names();
    let domain_of = |name: &DnsName| Hostname::parse(&name.bare()).ok().and_then(|name| registrable_domain(&name));
    let Some(first) = names.first().and_then(domain_of).filter(|domain| domain.dns_name() != picture.domain) else {
        return vec![];
    };
    if names.len() < 2 || names.iter().any(|name| domain_of(name).as_ref() != Some(&first)) {
        return vec![];
    }
    let message = format!("all nameservers have names under {first}");
    vec![TEXT.finding(picture.domain.bare(), message, format!("see that {first} never lapses"))]
}
