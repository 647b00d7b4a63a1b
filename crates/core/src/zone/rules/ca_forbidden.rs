//! CAA records that forbid the CA that certificates are got from.

use super::{Indexed, Rule};
use crate::certificate::caa::CAA;
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{Field, RecordData};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ca-forbidden",
    severity: Severity::Risk,
    what: "CAA records allow other CAs than the one in the settings.",
    why: "The CA must refuse to issue a certificate for the name and what lies below it, until the records name it.",
    cure: "Add a CAA record with the CA's name, or take the records away if any CA may issue.",
    source: "RFC 8659 section 4.2",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let ours = &zone.around.ca_identities;
    if ours.is_empty() {
        return vec![];
    }
    let mut findings = Vec::new();
    for (owner, records) in zone.owners() {
        let issuers: Vec<String> = records.iter().filter_map(|record| issuer(&record.data)).collect();
        if issuers.is_empty() || issuers.iter().any(|issuer| ours.iter().any(|our| our.eq_ignore_ascii_case(issuer))) {
            continue;
        }
        let name = owner.bare();
        let named =
            issuers.iter().map(|one| if one.is_empty() { "nobody" } else { one }).collect::<Vec<_>>().join(", ");
        let message = format!("{name} allows {named} to issue certificates, not {}", ours.join(" or "));
        let cure = format!("allow it: brightharbor record add {name} CAA '0 issue \"{}\"'", ours[0]);
        let first = records.iter().find(|record| issuer(&record.data).is_some());
        findings.push(zone.on_any(first.copied(), TEXT.finding(&name, message, cure)));
    }
    findings
}

/// The CA that an `issue` property allows; empty: none.
fn issuer(data: &RecordData) -> Option<String> {
    let RecordData::Fields { record_type: CAA, fields } = data else { return None };
    let [Field::Number(_), Field::Tag(tag), Field::Text(value)] = &fields[..] else { return None };
    if !tag.eq_ignore_ascii_case("issue") {
        return None;
    }
    let text = String::from_utf8_lossy(value).into_owned();
    Some(text.split(';').next().unwrap_or_default().trim().to_string())
}
