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

/// Whether a mailbox for reports is none (RFC 7489 section 6.2).
fn wrong_mailbox(text: &str) -> bool {
    let tags = text.split(';').filter_map(|tag| tag.split_once('='));
    let mut mailboxes = tags
        .filter(|(name, _)| ["rua", "ruf"].iter().any(|own| name.trim().eq_ignore_ascii_case(own)))
        .flat_map(|(_, value)| value.split(','));
    mailboxes.any(|uri| {
        let uri = uri.trim().to_ascii_lowercase();
        // Other kinds of URI are allowed, and used by nobody we know.
        match uri.strip_prefix("mailto:") {
            Some(mailbox) => {
                !mailbox.split_once('@').is_some_and(|(user, host)| !user.is_empty() && host.contains('.'))
            }
            None => !uri.contains("://"),
        }
    })
}

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
            (Some((_, "DMARC1")), Some((_, "none" | "quarantine" | "reject"))) => match wrong_mailbox(&text) {
                true => "a mailbox for reports (rua, ruf) is not written as mailto:ADDRESS",
                false => continue,
            },
            (Some((_, "DMARC1")), Some(_)) => "its policy is none of none, quarantine, reject",
            (Some((_, "DMARC1")), None) => "it has no policy (p=)",
            _ => "it does not begin with v=DMARC1",
        };
        let name = record.owner.bare();
        findings.push(zone.on(
            record,
            TEXT.finding(&name, format!("the DMARC policy at {name}: {what}"), "begin with v=DMARC1; p=none"),
        ));
    }
    findings
}
