//! The primary of the SOA record is no nameserver of the domain.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "primary-not-in-set",
    severity: Severity::Note,
    what: "The SOA record names a primary server that is not among the nameservers of the domain.",
    why: "Where the primary is hidden on purpose this is as it should be. Otherwise the name is a \
          leftover, and dynamic updates that follow it go astray.",
    cure: "If the primary is not hidden on purpose, put the name of a nameserver into the SOA record.",
    source: "RFC 1035 section 3.3.13, RFC 2136 section 4.3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let soa = picture.authoritative_servers().find_map(|(_, server)| server.probed.soa.as_ref());
    let Some(soa) = soa.filter(|soa| !picture.delegated_names().contains(&soa.primary)) else { return vec![] };
    let message =
        format!("the SOA record names the primary {}, which is not a nameserver of the domain", soa.primary.bare());
    vec![TEXT.finding(picture.domain.bare(), message, "change the SOA record, unless the primary is hidden on purpose")]
}
