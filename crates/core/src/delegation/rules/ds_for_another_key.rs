//! The zone is signed, and with another key than the one that the DS record at the parent stands for.

use super::{Expected, Rule, each_server, wanted_tags};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ds-for-another-key",
    severity: Severity::Fault,
    what: "The parent has a DS record for the domain, and none of the keys that the nameservers give is the one it stands \
           for.",
    why: "Validating resolvers take every answer for forged and give none: for a large part of all visitors the domain does \
          not exist.",
    cure: "Have the DS record at the registrar replaced by that of the present key, or sign with the old key again until \
           that has happened.",
    source: "RFC 4035 section 5.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let Some((usable, tags)) = wanted_tags(picture) else { return vec![] };
    let authoritative: Vec<_> = picture.authoritative_servers().map(|(_, server)| server.address).collect();
    each_server(picture, |name, server| {
        let keys = &server.probed.keys;
        let fits = keys.iter().any(|key| usable.iter().any(|ds| ds.is_of(key, &picture.domain)));
        if fits || keys.is_empty() || !authoritative.contains(&server.address) {
            return None;
        }
        let has = keys.iter().map(|key| key.key_tag.to_string()).collect::<Vec<_>>().join(", ");
        let message = format!("the parent wants the key {tags}; {name} at {} has {has}", server.address);
        let cure = match keys.iter().find(|key| key.is_entry_point()) {
            Some(key) => format!("at the registrar, replace the DS record by {}", key.ds(&picture.domain).text()),
            None => "sign the zone with that key, or have the DS record removed at the registrar".into(),
        };
        Some(TEXT.finding(name, message, cure))
    })
}
