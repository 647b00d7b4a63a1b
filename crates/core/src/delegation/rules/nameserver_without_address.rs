//! A nameserver's name does not resolve.

use super::nameserver_name_is_address::is_address;
use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameserver-without-address",
    severity: Severity::Fault,
    what: "A nameserver of the delegation has a name for which no address can be found.",
    why: "Resolvers that try it lose time, and with no other nameserver left the domain is unreachable.",
    cure: "Mend the spelling of the name at the registrar, or give the name an address record in its own zone.",
    source: "RFC 1912 section 2.8",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    // Names inside the domain are the business of glue-missing.
    let outside = picture.nameservers.iter().filter(|seen| !seen.name.is_within(&picture.domain));
    // One that is an address is told by nameserver-name-is-address.
    outside
        .filter(|seen| !is_address(&seen.name.bare()))
        .filter(|seen| seen.glue.is_empty() && seen.addresses.is_empty())
        .map(|seen| {
            let name = seen.name.bare();
            let message = format!("no address can be found for the nameserver {name}");
            TEXT.finding(&name, message, format!("correct the name {name}, or give it an address record"))
        })
        .collect()
}
