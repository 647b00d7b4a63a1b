//! A nameserver is named by an address.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

use std::net::IpAddr;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameserver-name-is-address",
    severity: Severity::Fault,
    what: "The delegation names an address, such as 192.0.2.53, where the name of a nameserver belongs.",
    why: "Resolvers take it for a name below a top-level domain that does not exist, and find no server.",
    cure: "Give the server a name with an address record, and put that name into the delegation.",
    source: "RFC 1035 section 3.3.11, RFC 1912 section 2.8",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let named = picture.delegated_names();
    let addresses = named.iter().filter(|name| is_address(&name.bare()));
    addresses
        .map(|name| {
            let message = format!("the delegation names the address {} as a nameserver", name.bare());
            TEXT.finding(name.bare(), message, "at the registrar, name the server by its name")
        })
        .collect()
}

pub(super) fn is_address(name: &str) -> bool {
    name.parse::<IpAddr>().is_ok()
}
