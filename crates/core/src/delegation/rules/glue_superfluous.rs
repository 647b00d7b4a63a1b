//! The parent hands out addresses that nobody needs.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "glue-superfluous",
    severity: Severity::Note,
    what: "The servers of the parent give addresses along with the delegation for names that are no \
          nameservers of the domain, or that lie outside of what that parent knows.",
    why: "Resolvers ignore such addresses, or worse, use them after they have become stale: what is kept \
          in two places is changed in one.",
    cure: "At the registrar, remove host objects that no domain uses any more.",
    source: "RFC 1034 section 4.2.1, RFC 9471",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut told = Vec::new();
    for answer in &picture.parent {
        let outside = answer.glue.iter().filter(|record| !record.owner.is_within(&picture.parent_zone));
        for record in answer.stray.iter().chain(outside) {
            let Some(address) = record.data.address() else { continue };
            let line = (record.owner.bare(), address);
            if !told.contains(&line) {
                told.push(line);
            }
        }
    }
    told.into_iter()
        .map(|(name, address)| {
            let message = format!("the parent gives {name} the address {address}, which the delegation does not need");
            TEXT.finding(&name, message, format!("remove the host object {name} at the registrar, if nobody uses it"))
        })
        .collect()
}
