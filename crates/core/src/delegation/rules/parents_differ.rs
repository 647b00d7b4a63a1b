//! The servers of the parent do not agree about the delegation.

use super::{Expected, Rule, listed};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "parents-differ",
    severity: Severity::Risk,
    what: "The servers of the parent zone name different nameservers for the domain, or some of them do not know it.",
    why: "Visitors are sent to the old or the new nameservers, depending on which server of the parent \
          their resolver asks. After a change this passes when the registry has published it everywhere.",
    cure: "After a change, wait. If it lasts for more than a day, tell the registrar.",
    source: "RFC 1034 section 4.3.5",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let mut answering = picture.parent.iter().filter(|answer| answer.problem.is_none());
    let Some(first) = answering.next() else { return vec![] };
    let other = answering.find(|answer| answer.nameservers != first.nameservers);
    let denying = picture.parent.iter().find(|answer| answer.denies);
    let names = listed(&first.nameservers);
    let message = match (other, denying) {
        (Some(other), _) => {
            format!("{} names {names}, {} names {}", first.server, other.server, listed(&other.nameservers))
        }
        // Added a moment ago, or taken away.
        (None, Some(denying)) => {
            format!("{} delegates it to {names}, {} says that it does not exist", first.server, denying.server)
        }
        (None, None) => return vec![],
    };
    // One version of the zone says one thing: servers that have the same one and differ will not come together by waiting.
    let against = other.or(denying).and_then(|answer| answer.serial);
    if let Some(serial) = against.filter(|serial| first.serial == Some(*serial)) {
        let message = format!("{message}; both have serial {serial}, so waiting changes nothing");
        let cure = format!("tell the registrar: servers of {} contradict each other", zone_words(picture));
        let finding = TEXT.finding(picture.domain.bare(), message, cure);
        // Where one of them denies the domain, it is gone for whoever asks that one.
        let severity = if other.is_none() { Severity::Fault } else { finding.severity };
        return vec![Finding { severity, ..finding }];
    }
    let finding =
        TEXT.finding(picture.domain.bare(), message, "wait until the registry has published the change everywhere");
    // The registry's own secondaries have caught up when they have asked once more.
    vec![match (picture.seen_at, &picture.parent_soa) {
        (Some(seen), Some(soa)) => finding.waiting(seen, u64::from(soa.refresh) + u64::from(soa.retry), Some(seen)),
        _ => finding,
    }]
}

fn zone_words(picture: &Picture) -> String {
    if picture.parent_zone.is_root() { "the root zone".into() } else { picture.parent_zone.bare() }
}
