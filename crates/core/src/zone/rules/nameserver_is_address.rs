//! A nameserver is given as an address.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;
use crate::zone::RecordData;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameserver-is-address",
    severity: Severity::Risk,
    what: "An NS record names an address where the name of a server belongs.",
    why: "It is taken as a name made of numbers, which nobody can find. The server is never asked.",
    cure: "Give the server a name with an address record, and name that.",
    source: "RFC 1035 section 3.3.11",
};

/// Four labels of digits first, whatever follows: `192.0.2.1` without its dot is a name below the zone.
fn looks_like_an_address(name: &DnsName) -> bool {
    let numeric = |label: &&[u8]| !label.is_empty() && label.iter().all(u8::is_ascii_digit);
    name.labels().take_while(numeric).count() >= 4
}

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    for record in zone.records() {
        let RecordData::Ns(target) = &record.data else { continue };
        if looks_like_an_address(target) {
            let (owner, name) = (record.owner.bare(), target.bare());
            let message = format!("{owner} has the nameserver {name}: an address, where a name belongs");
            findings
                .push(zone.on(record, TEXT.finding(&owner, message, "name the server, and give it an address record")));
        }
    }
    findings
}
