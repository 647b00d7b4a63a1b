//! The name of a nameserver is an alias.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameserver-name-is-alias",
    severity: Severity::Fault,
    what: "A nameserver of the delegation has a name with a CNAME record.",
    why: "A nameserver must be named by a name with addresses of its own: many resolvers do not follow an \
          alias there, and the domain cannot be found through that server.",
    cure: "Give the name address records in place of the alias, or name the server by the name that the \
          alias leads to.",
    source: "RFC 2181 section 10.3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut findings = Vec::new();
    for seen in &picture.nameservers {
        let Some(target) = &seen.alias else { continue };
        let (name, target) = (seen.name.bare(), target.bare());
        let message = format!("the nameserver {name} is an alias of {target}");
        findings.push(TEXT.finding(
            &name,
            message,
            format!("delegate to {target}, or give {name} addresses of its own"),
        ));
    }
    findings
}
