//! The parent delegates to other nameservers than the harbor expects.

use super::{Expected, Rule, listed};
use crate::delegation::{Picture, Registered, ServerSeen};
use crate::finding::{Finding, RuleText, Severity, minute};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "nameservers-not-as-expected",
    severity: Severity::Fault,
    what: "The set of nameservers at the parent is not the set that this harbor expects for the domain.",
    why: "Resolvers follow the parent. While it names other servers, whatever is written into the zone here is not \
          what visitors get; a set that overlaps only in part gives different answers to different visitors.",
    cure: "Whoever holds the registrar login sets exactly the expected nameservers. If the domain is meant to stay \
           where it is, enter the records there instead, and attach it with `--zone elsewhere`.",
    source: "RFC 1034 section 4.2.1",
};

/// Where it is not known how often the registry publishes, in seconds.
const A_DAY: u64 = 86_400;

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    if expected.nameservers.is_empty() || picture.registered != Registered::Yes {
        return vec![];
    }
    let mut wanted = expected.nameservers.clone();
    wanted.sort();
    let found = picture.delegated_names();
    if picture.delegation().is_none() || found == wanted {
        return vec![];
    }
    // Other names for the servers that are meant: a customer's own, perhaps.
    let at_ours =
        |server: &ServerSeen| server.state.has_authority() && expected.own_addresses.contains(&server.address.ip());
    if picture.servers().next().is_some() && picture.servers().all(|(_, server)| at_ours(server)) {
        return vec![];
    }
    let domain = picture.domain.bare();
    let message = format!("{domain} is delegated to {}, not to {}", listed(&found), listed(&wanted));
    let cure = format!("at the registrar, set the nameservers of {domain} to {}", listed(&wanted));
    let Some(asked) = expected.asked_at else { return vec![TEXT.finding(domain, message, cure)] };
    // What was asked for has reached all servers of the registry when they have asked its primary once more.
    let published = picture.parent_soa.as_ref().map_or(A_DAY, |soa| u64::from(soa.refresh) + u64::from(soa.retry));
    let message = format!("{message}; asked for on {}", minute(asked));
    vec![TEXT.finding(domain, message, cure).waiting(asked, published, picture.seen_at)]
}
