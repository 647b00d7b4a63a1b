//! The servers of the parent do not agree about the delegation.

use super::{Expected, Rule, listed};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "parents-differ",
    severity: Severity::Risk,
    what: "The servers of the parent zone name different nameservers for the domain.",
    why: "Visitors are sent to the old or the new nameservers, depending on which server of the parent \
          their resolver asks. After a change this passes when the registry has published it everywhere.",
    cure: "After a change, wait. If it lasts for more than a day, tell the registrar.",
    source: "RFC 1034 section 4.3.5",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut answering = picture.parent.iter().filter(|answer| answer.problem.is_none());
    let Some(first) = answering.next() else { return vec![] };
    let Some(other) = answering.find(|answer| answer.nameservers != first.nameservers) else { return vec![] };
    let message = format!(
        "{} names {}, {} names {}",
        first.server,
        listed(&first.nameservers),
        other.server,
        listed(&other.nameservers)
    );
    let finding =
        TEXT.finding(picture.domain.bare(), message, "wait until the registry has published the change everywhere");
    // The registry's own secondaries have caught up when they have asked once more.
    vec![match (picture.seen_at, &picture.parent_soa) {
        (Some(seen), Some(soa)) => finding.waiting(seen, u64::from(soa.refresh) + u64::from(soa.retry), Some(seen)),
        _ => finding,
    }]
}
