//! A DMARC policy that receivers cannot read.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "dmarc-syntax",
    severity: Severity::Risk,
    what: "The text at `_dmarc` is no DMARC policy: it does not begin with `v=DMARC1`, or `p` is missing or unknown.",
    why: "Receivers pass over a policy that they cannot read: forged mail is treated as if there were none.",
    cure: "Begin with `v=DMARC1; p=none`, with `quarantine` or `reject` once reports look good.",
    source: "RFC 7489 section 6.3",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Txt(strings) = &record.data else { continue };
        if record.owner.labels().next() != Some(b"_dmarc") {
            continue;
        }
        let text = String::from_utf8_lossy(&strings.concat()).into_owned();
        let mut tags = text.split(';').map(|tag| tag.split_once('=').map(|(name, value)| (name.trim(), value.trim())));
        let version = tags.next().flatten();
        let policy = tags.flatten().find(|(name, _)| name.eq_ignore_ascii_case("p"));
        let what = match (version, policy) {
            (Some((name, "DMARC1")), _) if !name.eq_ignore_ascii_case("v") => "it does not begin with v=DMARC1",
            (Some((_, "DMARC1")), Some((_, "none" | "quarantine" | "reject"))) => continue,
            (Some((_, "DMARC1")), Some(_)) => "its policy is none of none, quarantine, reject",
            (Some((_, "DMARC1")), None) => "it has no policy (p=)",
            _ => "it does not begin with v=DMARC1",
        };
        let name = record.owner.bare();
        findings.push(TEXT.finding(
            &name,
            format!("the DMARC policy at {name}: {what}"),
            "begin with v=DMARC1; p=none",
        ));
    }
    findings
}
