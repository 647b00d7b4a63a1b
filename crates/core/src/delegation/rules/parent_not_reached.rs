//! The way from the root servers to the parent of the domain breaks off.

use super::{Expected, Rule};
use crate::delegation::{Picture, Registered};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "parent-not-reached",
    severity: Severity::Fault,
    what: "Following the referrals from the root servers, no server of the domain's parent zone could be asked.",
    why: "Nothing can be said about the delegation. Most often this host cannot reach the DNS port of other hosts, \
          or a zone above the domain is itself broken.",
    cure: "See that this host may send UDP and TCP to port 53 of any address. In a closed network, name its root \
           servers: `--root-server`, or `root-servers` under `[internet]` in harbor.toml.",
    source: "RFC 1034 section 5.3.3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let Registered::Unknown(why) = &picture.registered else {
        return vec![];
    };
    let message = format!("the walk to {} ended at the zone {}: {why}", picture.domain.bare(), picture.parent_zone);
    let cure = "let this host reach other hosts' DNS port, or name the root servers to use";
    vec![TEXT.finding(picture.domain.bare(), message, cure)]
}
