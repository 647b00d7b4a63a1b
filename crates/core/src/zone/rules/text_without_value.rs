//! A TXT record with a name and nothing behind it: the line of a template whose value was empty.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "text-without-value",
    severity: Severity::Note,
    what: "A TXT record is empty, or is a name and an equals sign with nothing behind it: `verification=`.",
    why: "A template was filled in while its value was missing. Whoever looks for the value does not find it.",
    cure: "Put the value in, or remove the record.",
    source: "RFC 1464 section 2",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Txt(strings) = &record.data else { continue };
        let text = strings.concat();
        // A key of mail that is taken back has an empty value in this form (RFC 6376 section 3.6.1).
        let is_revoked_key = text == b"p=" && record.owner.bare().contains("._domainkey");
        if has_no_value(text.trim_ascii()) && !is_revoked_key {
            let name = record.owner.bare();
            let message = match text.trim_ascii() {
                [] => format!("the TXT record of {name} is empty"),
                text => format!("the TXT record of {name} ends where its value should be: {}", text.escape_ascii()),
            };
            findings.push(zone.on(record, TEXT.finding(&name, message, "put the value in, or remove the record")));
        }
    }
    findings
}

/// Bytes in base64 may end with an equals sign as well: they have capitals or digits among them.
fn has_no_value(text: &[u8]) -> bool {
    let is_word = |byte: &u8| byte.is_ascii_lowercase() || matches!(byte, b'-' | b'_' | b'.');
    match text.split_last() {
        None => true,
        Some((b'=', name)) => name.iter().all(is_word),
        Some(_) => false,
    }
}
