//! All nameservers share one address or one network.

use super::{Expected, Rule};
use crate::address::AddressKind;
use crate::delegation::{ONE_NETWORK, Picture, network};
use crate::finding::{Finding, RuleText, Severity};

use std::collections::BTreeSet;
use std::net::IpAddr;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "one-network",
    severity: Severity::Risk,
    what: "All nameservers of the delegation have the same address, or lie in the same /24 (IPv4) or /48 \
          (IPv6) network; as a note, in the same /22 or /44, which is often announced as one.",
    why: "One broken cable, router or announcement takes all of them away at once, and with them every \
          name of the domain.",
    cure: "Place at least one nameserver in another network, best with another provider.",
    source: "RFC 2182 section 3.1",
};

/// What is often announced as one.
const WIDE: (u32, u32) = (22, 44);

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let addresses: BTreeSet<IpAddr> = picture.servers().map(|(_, server)| server.address.ip()).collect();
    // Inside a closed network all of them share its fate.
    let is_closed = |kind| matches!(kind, AddressKind::Loopback | AddressKind::Private | AddressKind::LinkLocal);
    let closed = addresses.iter().any(|address| is_closed(AddressKind::of(*address)));
    let networks = |lengths| addresses.iter().map(|address| network(*address, lengths)).collect::<BTreeSet<_>>().len();
    // Where one of them has no address, that is told by another rule.
    let all_seen = picture.nameservers.iter().all(|seen| !seen.servers.is_empty());
    if picture.delegated_names().len() < 2 || closed || networks(WIDE) != 1 || !all_seen {
        return vec![];
    }
    let shown = addresses.iter().map(IpAddr::to_string).collect::<Vec<_>>().join(", ");
    let (severity, message) = match (addresses.len(), networks(ONE_NETWORK)) {
        (1, _) => (Severity::Risk, format!("all nameservers have the one address {shown}")),
        (_, 1) => (Severity::Risk, format!("all nameservers lie in one network: {shown}")),
        _ => (Severity::Note, format!("all nameservers lie close together: {shown}")),
    };
    let finding = TEXT.finding(picture.domain.bare(), message, "place a nameserver in another network");
    vec![Finding { severity, ..finding }]
}
