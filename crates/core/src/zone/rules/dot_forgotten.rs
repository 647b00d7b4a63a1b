//! A full name as target, without its final dot.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::{DnsName, ends_in_known_suffix};
use crate::zone::{Field, Record, RecordData, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "dot-forgotten",
    severity: Severity::Risk,
    what: "The target of an alias, a mail, service, pointer or nameserver record is a full name without its final dot.",
    why: "Without the dot it is a name below this zone, as `mail.oldquay.example.gullrock.example`: nothing is there.",
    cure: "Add the final dot to the name.",
    source: "RFC 1035 section 5.1, RFC 1912 section 2.3",
};

fn target(record: &Record) -> Option<&DnsName> {
    match &record.data {
        RecordData::Cname(name) | RecordData::Ns(name) | RecordData::Mx { exchange: name, .. } => Some(name),
        // PTR, SRV, DNAME, SVCB and HTTPS.
        RecordData::Fields { record_type: RecordType(12 | 33 | 39 | 64 | 65), fields } => {
            fields.iter().find_map(|field| if let Field::Name(name) = field { Some(name) } else { None })
        }
        _ => None,
    }
}

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        // A nameserver of the apex without address is a fault of its own.
        let Some(target) = target(record).filter(|_| !is_apex_nameserver(zone, record)) else { continue };
        if let Some(meant) = meant(zone, target) {
            let (owner, kind, meant) = (record.owner.bare(), record.record_type(), meant.bare());
            let message = format!("the {kind} record of {owner} names {}: was {meant}. meant?", target.bare());
            findings.push(zone.on(record, TEXT.finding(&owner, message, format!("write {meant}. with its final dot"))));
        }
    }
    findings
}

fn is_apex_nameserver(zone: &Indexed<'_>, record: &Record) -> bool {
    record.record_type() == RecordType::NS && record.owner == *zone.apex()
}

/// The full name that was meant by a target that is not there and lies in the zone only for want of its final dot. Others that
/// find fault with such a target leave it to this rule.
pub(super) fn meant(zone: &Indexed<'_>, target: &DnsName) -> Option<DnsName> {
    if !target.is_within(zone.apex()) || !zone.at(target).is_empty() || zone.cut_above(target).is_some() {
        return None;
    }
    let labels: Vec<&[u8]> = target.labels().collect();
    let own = labels.len() - zone.apex().labels().count();
    let typed = DnsName::from_labels(labels[..own].iter().copied()).ok()?;
    // The zone's own name twice is told by another rule.
    (own > 1 && ends_in_a_top_level(&typed) && !typed.is_within(zone.apex())).then_some(typed)
}

/// Whether the last label is a top-level domain that is in use.
fn ends_in_a_top_level(name: &DnsName) -> bool {
    let bare = name.bare().to_ascii_lowercase();
    let last = bare.rsplit('.').next().unwrap_or_default();
    last == "example" || ends_in_known_suffix(&bare)
}
