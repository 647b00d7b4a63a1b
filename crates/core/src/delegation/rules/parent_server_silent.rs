//! A server of the parent zone does not answer.

use super::{Expected, Rule};
use crate::delegation::{Picture, Reached};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "parent-server-silent",
    severity: Severity::Risk,
    what: "Some of the servers of the parent zone give no answer about the domain, or none over TCP.",
    why: "It is not in your hands, and others answer; a part of the visitors waits a little longer.",
    cure: "Nothing has to be done here. If it lasts, the registry will be glad to hear of it.",
    source: "RFC 2182 section 3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let some_answer = picture.parent.iter().any(|answer| answer.problem.is_none());
    let mut findings = Vec::new();
    for answer in picture.parent.iter().filter(|answer| some_answer && !answer.denies) {
        let message = match (&answer.problem, &answer.tcp) {
            (Some(problem), _) => format!("{} of the parent {} {problem}", answer.server, picture.parent_zone.bare()),
            (None, Reached::Failed(why)) => format!("{} of the parent over TCP {why}", answer.server),
            _ => continue,
        };
        findings.push(TEXT.finding(answer.server, message, "nothing has to be done here; others answer"));
    }
    findings
}
