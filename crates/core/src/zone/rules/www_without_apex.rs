//! The bare name or its www twin has no address.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "www-without-apex",
    severity: Severity::Note,
    what: "Of the bare domain and its www name, one leads somewhere and the other does not.",
    why: "Visitors type both. The one that is missing looks like a site that is down.",
    cure: "Add address records (or for www a CNAME) for the missing one, and attach it to the same site.",
    source: "RFC 1912 section 2.1",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let apex = zone.apex();
    let Ok(www) = DnsName::parse("www", apex) else { return vec![] };
    let leads = |name: &DnsName| zone.has_address(name) || zone.is_alias(name);
    let (missing, there) = match (leads(apex), leads(&www)) {
        (true, false) => (www.bare(), apex.bare()),
        (false, true) => (apex.bare(), www.bare()),
        _ => return vec![],
    };
    let message = format!("{there} leads somewhere and {missing} does not");
    vec![TEXT.finding(&missing, message, format!("add address records for {missing}"))]
}
