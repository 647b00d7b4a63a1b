//! The zone here is not the one that the world sees.

use super::{Expected, Rule, listed};
use crate::delegation::{Picture, Registered, ServerSeen};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "zone-not-in-use",
    severity: Severity::Note,
    what: "This harbor keeps a zone for the domain, and the parent delegates to none of its nameservers.",
    why: "What is changed in the zone here has no effect. A zone that stays behind after a move also hides \
          the domain from everybody who uses these nameservers as their own.",
    cure: "If the domain is to come here, set the nameservers at the registrar. If it has moved away, \
          remove the zone here.",
    source: "RFC 1034 section 4.2.1",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let names = picture.delegated_names();
    let is_ours =
        |server: &ServerSeen| server.state.has_authority() && expected.own_addresses.contains(&server.address.ip());
    let by_address = picture.servers().any(|(_, server)| is_ours(server));
    let none_of_ours = !by_address && !names.iter().any(|name| expected.nameservers.contains(name));
    let here = expected.zone_here == Some(true) && !expected.nameservers.is_empty();
    if !here || !none_of_ours || picture.registered != Registered::Yes || names.is_empty() {
        return vec![];
    }
    let domain = picture.domain.bare();
    let message = format!("the zone {domain} here has no effect: the world asks {}", listed(&names));
    let cure = format!("hand the change over: brightharbor delegation handover {domain}; or detach the domain");
    vec![TEXT.finding(&domain, message, cure)]
}
