//! A mail exchanger that leads nowhere: an alias, or a name of this zone without address, or an address.

use super::{Indexed, Rule, dot_forgotten};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "mail-server-unusable",
    severity: Severity::Risk,
    what: "An MX record names an alias, a name of this zone without address, or something that looks like an address.",
    why: "Mail servers look the name up for its addresses; without any, mail is returned after days. A missing final \
          dot is the usual reason.",
    cure: "Name a host with address records. Mind the final dot of names outside this zone.",
    source: "RFC 5321 section 5.1, RFC 2181 section 10.3, RFC 1912 section 2.5",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Mx { exchange, .. } = &record.data else { continue };
        let numeric = |label: &[u8]| label.iter().all(u8::is_ascii_digit);
        let looks_like_address = exchange.labels().take_while(|label| numeric(label)).count() >= 4;
        let here = exchange.is_within(zone.apex()) && zone.cut_above(exchange).is_none();
        let what = if looks_like_address {
            "is an address; MX takes the name of a host"
        } else if zone.is_alias(exchange) {
            "is an alias"
        } else if here && !zone.has_address(exchange) && dot_forgotten::meant(zone, exchange).is_none() {
            "lies in this zone and has no address"
        } else {
            continue;
        };
        let (owner, name) = (record.owner.bare(), exchange.bare());
        let cure = format!("name a host with an address in the MX record of {owner}");
        findings.push(
            zone.on(record, TEXT.finding(&owner, format!("mail for {owner} goes to {name}, which {what}"), cure)),
        );
    }
    findings
}
