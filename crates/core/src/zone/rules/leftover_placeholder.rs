//! A placeholder of a template that was never filled in.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;
use crate::zone::{Record, RecordData};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "leftover-placeholder",
    severity: Severity::Risk,
    what: "A record holds text in double braces or percent signs, as templates do: `{{domain}}`, `%ip%`.",
    why: "The zone was copied from a template by hand or by a program that did not know this placeholder. What should \
          stand there does not.",
    cure: "Put the value in place of the placeholder, or remove the record.",
    source: "RFC 1912 section 2",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records().filter(|record| may_hold_one(record)) {
        let text = format!("{} {}", record.owner.bare(), record.data);
        let braces = text.contains("{{") && text.contains("}}");
        if braces || has_percent_placeholder(&text) {
            let (name, kind) = (record.owner.bare(), record.record_type());
            let message = format!("the {kind} record of {name} holds an unfilled placeholder: {}", record.data);
            findings.push(zone.on(record, TEXT.finding(&name, message, "fill the value in, or remove the record")));
        }
    }
    findings
}

/// A quick look, before anything is written out: most records hold neither sign.
fn may_hold_one(record: &Record) -> bool {
    let signs = |bytes: &[u8]| memchr::memchr2(b'{', b'%', bytes).is_some();
    // The length of a label may look like a percent sign.
    let in_name = |name: &DnsName| signs(name.wire()) && name.labels().any(signs);
    in_name(&record.owner)
        || match &record.data {
            RecordData::A(_) | RecordData::Aaaa(_) | RecordData::Soa(_) => false,
            RecordData::Ns(name) | RecordData::Cname(name) | RecordData::Mx { exchange: name, .. } => in_name(name),
            RecordData::Txt(strings) => strings.iter().any(|string| signs(string)),
            RecordData::Fields { .. } | RecordData::Verbatim { .. } | RecordData::Unknown { .. } => true,
        }
}

/// `%word%`: a percent sign, letters and underscores, a percent sign. SPF macros have braces and are none.
fn has_percent_placeholder(text: &str) -> bool {
    let mut parts = text.split('%').skip(1).peekable();
    while let Some(part) = parts.next() {
        let word = part.len() > 1 && part.chars().all(|c| c.is_ascii_alphabetic() || c == '_');
        if word && parts.peek().is_some() {
            return true;
        }
    }
    false
}
