//! A nameserver looks names up for strangers.

use super::{Expected, Rule, each_server};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "recursion-offered",
    severity: Severity::Risk,
    what: "An authoritative nameserver of the domain also answers as a resolver, to anybody who asks.",
    why: "Open resolvers are used to flood others with traffic, and their caches can be poisoned; the \
          address ends up on block lists.",
    cure: "Switch recursion off on that server, or allow it to your own networks alone.",
    source: "RFC 5358, RFC 2182 section 5",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| {
        let message = format!("{name} at {} looks up names of others for anybody", server.address);
        let cure = format!("switch recursion off on {name}, or allow it to your own networks alone");
        server.probed.recursion.then(|| TEXT.finding(name, message, cure))
    })
}
