//! A nameserver inside the domain has no address at the parent.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "glue-missing",
    severity: Severity::Fault,
    what: "A nameserver has a name inside the domain that it serves, and the parent gives no address for it.",
    why: "To ask that server its address one would have to ask that server: nobody can. The parent must hand the \
          address out together with the name (glue).",
    cure: "At the registrar, register the nameserver as a host object with its addresses (often called \
           `nameserver addresses` or `glue`), then see that the delegation uses that name.",
    source: "RFC 1034 section 4.2.1, RFC 9471",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let inside = picture.nameservers.iter().filter(|seen| seen.name.is_within(&picture.domain));
    inside
        .filter(|seen| seen.glue.is_empty())
        .map(|seen| {
            let name = seen.name.bare();
            let message = format!("the parent names {name} without an address, and it lies inside the domain");
            TEXT.finding(&name, message, format!("at the registrar, give {name} its addresses"))
        })
        .collect()
}
