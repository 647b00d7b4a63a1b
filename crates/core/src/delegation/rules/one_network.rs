//! All nameservers share one address or one network.

use super::{Expected, Rule};
use crate::delegation::{Picture, network};
use crate::finding::{Finding, RuleText, Severity};

use std::collections::BTreeSet;
use std::net::IpAddr;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "one-network",
    severity: Severity::Risk,
    what: "All nameservers of the delegation have the same address, or lie in the same /24 (IPv4) or /48 \
          (IPv6) network.",
    why: "One broken cable, router or announcement takes all of them away at once, and with them every \
          name of the domain.",
    cure: "Place at least one nameserver in another network, best with another provider.",
    source: "RFC 2182 section 3.1",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let addresses: BTreeSet<IpAddr> = picture.servers().map(|(_, server)| server.address.ip()).collect();
    let networks: BTreeSet<Vec<u8>> = addresses.iter().map(|address| network(*address)).collect();
    // Where one of them has no address, that is told by another rule.
    let all_seen = picture.nameservers.iter().all(|seen| !seen.servers.is_empty());
    if picture.delegated_names().len() < 2 || networks.len() != 1 || !all_seen {
        return vec![];
    }
    let shown = addresses.iter().map(IpAddr::to_string).collect::<Vec<_>>().join(", ");
    let message = match addresses.len() {
        1 => format!("all nameservers have the one address {shown}"),
        _ => format!("all nameservers lie in one network: {shown}"),
    };
    vec![TEXT.finding(picture.domain.bare(), message, "place a nameserver in another network")]
}
