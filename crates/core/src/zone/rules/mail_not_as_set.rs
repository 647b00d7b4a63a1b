//! Mail servers in the zone that are not those of the domain's mail setting.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{RecordData, RecordType};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "mail-not-as-set",
    severity: Severity::Risk,
    what: "The MX records of the domain are others than its mail setting says.",
    why: "Mail goes to servers that nobody here expects to take it, or a domain that should take no mail takes some.",
    cure: "Set the MX records to what is meant, or leave them and create the zone with another mail setting next time.",
    source: "RFC 5321 section 5.1, RFC 7505",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let Some(wanted) = &zone.around.mail_servers else { return vec![] };
    let exchanges = zone.of_type(zone.apex(), RecordType::MX).filter_map(|record| match &record.data {
        RecordData::Mx { exchange, .. } if !exchange.is_root() => Some(exchange),
        _ => None,
    });
    let mut present: Vec<_> = exchanges.cloned().collect();
    present.sort();
    present.dedup();
    let mut expected = wanted.clone();
    expected.sort();
    if present == expected {
        return vec![];
    }
    let words = |names: &[crate::name::DnsName]| match names {
        [] => "no mail server".to_string(),
        names => names.iter().map(|name| name.bare()).collect::<Vec<_>>().join(", "),
    };
    let name = zone.apex().bare();
    let message = format!("{name} names {}, and its mail setting {}", words(&present), words(&expected));
    let cure = match wanted.is_empty() {
        true => format!("set it to take no mail: brightharbor record replace {name} MX \"0 .\""),
        false => format!("set its MX records to {}", words(wanted)),
    };
    vec![zone.on_any(zone.of_type(zone.apex(), RecordType::MX).next(), TEXT.finding(&name, message, cure))]
}
