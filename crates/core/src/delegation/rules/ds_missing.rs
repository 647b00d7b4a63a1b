//! The zone is signed, and its parent does not say so.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::delegation::Registered;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "ds-missing",
    severity: Severity::Note,
    what: "The nameservers give keys and signatures, and the parent has no DS record for the domain.",
    why: "Without the DS record nobody verifies the signatures: the zone is as unprotected as without \
          them.",
    cure: "At the registrar, enter the DS record of the present key.",
    source: "RFC 4035 section 2.4",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    if !picture.ds.is_empty() || picture.registered != Registered::Yes {
        return vec![];
    }
    let mut keys = picture.authoritative_servers().flat_map(|(_, server)| &server.probed.keys);
    let Some(key) = keys.find(|key| key.is_entry_point()) else { return vec![] };
    let message = format!("the zone is signed with the key {}, and the parent has no DS record", key.key_tag);
    let cure = format!("at the registrar, enter the DS record {}", key.ds(&picture.domain).text());
    vec![TEXT.finding(picture.domain.bare(), message, cure)]
}
