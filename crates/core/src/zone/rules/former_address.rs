//! Names that lead to an address that used to be ours.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "former-address",
    severity: Severity::Risk,
    what: "A name leads to an address that sites of this harbor were once served at and no longer are.",
    why: "Whoever gets the address next gets the visitors, and can even get a certificate for the name.",
    cure: "Give the name the address of today, or remove the record. `brightharbor zone realign` does so in all zones.",
    source: "RFC 1912 section 2.3",
};

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let former = &zone.around.former_addresses;
    if former.is_empty() {
        return vec![];
    }
    let led_there = zone.records().filter_map(|record| Some((record, record.data.address()?)));
    led_there
        .filter(|(_, address)| former.contains(address))
        .map(|(record, address)| {
            let name = record.owner.bare();
            let message = format!("{name} leads to {address}, which is no longer an address of this machine");
            zone.on(
                record,
                TEXT.finding(&name, message, format!("give {name} an address of today, or remove the record")),
            )
        })
        .collect()
}
