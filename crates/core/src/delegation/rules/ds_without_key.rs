//! No key of the zone fits the DS record at the parent.

use super::{Expected, Rule, each_server};
use crate::delegation::{Ds, Picture};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ds-without-key",
    severity: Severity::Fault,
    what: "The parent has a DS record for the domain, and none of the keys that the nameservers give is the \
          one it stands for.",
    why: "Validating resolvers take every answer for forged and give none: for a large part of all \
          visitors the domain does not exist.",
    cure: "Publish the key that the DS record stands for, or have the DS record at the registrar replaced \
          by that of the present key; if the zone is not to be signed, have the DS record removed first \
          and wait its TTL.",
    source: "RFC 4035 section 5.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let usable: Vec<&Ds> = picture.ds.iter().filter(|ds| ds.is_supported()).collect();
    if usable.is_empty() {
        return vec![];
    }
    let tags = usable.iter().map(|ds| ds.key_tag.to_string()).collect::<Vec<_>>().join(", ");
    let authoritative: Vec<_> = picture.authoritative_servers().map(|(_, server)| server.address).collect();
    each_server(picture, |name, server| {
        let keys = &server.probed.keys;
        let fits = keys.iter().any(|key| usable.iter().any(|ds| ds.is_of(key, &picture.domain)));
        if fits || !authoritative.contains(&server.address) {
            return None;
        }
        let has = match keys.len() {
            0 => "has no keys at all".to_string(),
            _ => format!("has {}", keys.iter().map(|key| key.key_tag.to_string()).collect::<Vec<_>>().join(", ")),
        };
        let message = format!("the parent wants the key {tags}; {name} at {} {has}", server.address);
        let cure = match keys.iter().find(|key| key.is_entry_point()) {
            Some(key) => format!("at the registrar, replace the DS record by {}", key.ds(&picture.domain).text()),
            None => "sign the zone with that key, or have the DS record removed at the registrar".into(),
        };
        Some(TEXT.finding(name, message, cure))
    })
}
