//! A nameserver does not know EDNS.

use super::{Expected, Rule, each_server};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "server-without-edns",
    severity: Severity::Risk,
    what: "A nameserver answers plain DNS questions and not those with EDNS, or leaves EDNS out of its \
          answers.",
    why: "Resolvers ask with EDNS first: a server that drops such questions is slow for everybody, and one \
          without EDNS cannot serve signed zones.",
    cure: "Update the server, and see that no firewall in front of it drops DNS questions with EDNS.",
    source: "RFC 6891 section 6.1.1 and section 7",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| {
        let message = format!("{name} at {} does not know EDNS", server.address);
        let cure = format!("update the server at {}, or the firewall in front of it", server.address);
        (server.probed.edns == Some(false)).then(|| TEXT.finding(name, message, cure))
    })
}
