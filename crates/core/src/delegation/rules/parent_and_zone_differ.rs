//! The parent and the zone itself name different nameservers.

use super::{Expected, Rule, listed};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "parent-and-zone-differ",
    severity: Severity::Risk,
    what: "The NS records in the zone are not the set of nameservers that the parent has.",
    why: "Resolvers learn one set from the parent and the other from the zone, and use one or the other. A server that \
          only one side names may stop being kept without anybody noticing.",
    cure: "Change the NS records in the zone, or the set at the registrar, so that both are the same.",
    source: "RFC 1034 section 4.2.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let at_parent = picture.delegated_names();
    let differing = picture.servers().find_map(|(nameserver, server)| match &server.state {
        ServerState::Authoritative { nameservers, .. } if !nameservers.is_empty() && *nameservers != at_parent => {
            Some((nameserver.name.bare(), nameservers.clone()))
        }
        _ => None,
    });
    let Some((server, in_zone)) = differing else {
        return vec![];
    };
    let message =
        format!("the parent names {}, the zone (as {server} has it) names {}", listed(&at_parent), listed(&in_zone));
    vec![TEXT.finding(
        picture.domain.bare(),
        message,
        "make the NS records of the zone and the registrar's set the same",
    )]
}
