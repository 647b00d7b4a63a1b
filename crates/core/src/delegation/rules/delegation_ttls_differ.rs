//! Parent and zone give the nameservers different times to live.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};
use crate::name::DnsName;
use crate::zone::show_seconds;

use std::collections::BTreeSet;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "delegation-ttls-differ",
    severity: Severity::Note,
    what: "The nameservers are to change, and the TTL of the NS records at the parent is not that in the zone.",
    why: "After a change of nameservers the longer of the two tells how long resolvers may go on asking \
          the old ones.",
    cure: "Before a move, lower the TTL in the zone; that of the parent is the registry's own.",
    source: "RFC 2181 section 5.4.1, RFC 9199 section 4",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    // Nearly every domain has two: they matter to somebody who waits for the nameservers to change.
    let names: BTreeSet<DnsName> = picture.delegated_names().into_iter().collect();
    if expected.nameservers.is_empty() || expected.nameservers.iter().cloned().collect::<BTreeSet<_>>() == names {
        return vec![];
    }
    let Some(parent) = picture.delegation().map(|answer| answer.ttl) else { return vec![] };
    let zone = picture.authoritative_servers().find_map(|(_, server)| server.probed.ns_ttl);
    let Some(zone) = zone.filter(|zone| *zone != parent) else { return vec![] };
    let (at_parent, in_zone) = (show_seconds(parent.into()), show_seconds(zone.into()));
    let message = format!("the nameservers have a TTL of {at_parent} at the parent and of {in_zone} in the zone");
    let longest = show_seconds(parent.max(zone).into());
    vec![TEXT.finding(picture.domain.bare(), message, format!("a nameserver change takes up to {longest} to be seen"))]
}
