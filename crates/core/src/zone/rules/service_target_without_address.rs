//! A service at a host of this zone that has no address.

use super::{Indexed, Rule, dot_forgotten};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{Field, RecordData};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "service-target-without-address",
    severity: Severity::Risk,
    what: "An SRV, SVCB or HTTPS record names a host of this zone that has no address, or an alias where none may stand.",
    why: "Programs that look the service up find a host that they cannot reach. A missing final dot is the usual reason.",
    cure: "Give the host an address record, or correct its name. For SRV, name the host itself and not an alias.",
    source: "RFC 2782, RFC 9460 section 2.4.2",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Fields { record_type, fields } = &record.data else { continue };
        if !matches!(record_type.0, 33 | 64 | 65) {
            continue;
        }
        let target = fields.iter().find_map(|field| if let Field::Name(name) = field { Some(name) } else { None });
        // The root says that there is no such service (SRV), or means the owner itself (SVCB, HTTPS).
        let Some(target) = target.filter(|target| !target.is_root()) else { continue };
        let here = target.is_within(zone.apex()) && zone.cut_above(target).is_none();
        let alias = zone.is_alias(target);
        let what = if alias && record_type.0 == 33 {
            "is an alias"
        } else if here && !alias && !zone.has_address(target) && dot_forgotten::meant(zone, target).is_none() {
            "has no address here"
        } else {
            continue;
        };
        let (owner, target) = (record.owner.bare(), target.bare());
        let message = format!("the {record_type} record of {owner} names {target}, which {what}");
        findings.push(zone.on(record, TEXT.finding(&owner, message, format!("give {target} an address record"))));
    }
    findings
}
