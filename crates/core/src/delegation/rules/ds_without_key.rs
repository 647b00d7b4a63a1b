//! The parent has a DS record, and the zone is not signed.

use super::{Expected, Rule, each_server, wanted_tags};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ds-without-key",
    severity: Severity::Fault,
    what: "The parent has a DS record for the domain, and a nameserver has no keys of the zone at all.",
    why: "Validating resolvers take every answer for forged and give none: for a large part of all visitors the domain does \
          not exist. This is what a move to a nameserver that does not sign leaves.",
    cure: "Have the DS record removed at the registrar, and wait its TTL; or sign the zone with the key that it stands for.",
    source: "RFC 4035 section 5.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let Some((_, tags)) = wanted_tags(picture) else { return vec![] };
    let authoritative: Vec<_> = picture.authoritative_servers().map(|(_, server)| server.address).collect();
    each_server(picture, |name, server| {
        if !server.probed.keys.is_empty() || !authoritative.contains(&server.address) {
            return None;
        }
        let message = format!("the parent wants the key {tags}; {name} at {} has no keys at all", server.address);
        let cure = "have the DS record removed at the registrar, or sign the zone with that key";
        Some(TEXT.finding(name, message, cure))
    })
}
