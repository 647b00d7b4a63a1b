//! A nameserver gives the whole zone to anybody.

use super::{Expected, Rule, each_server};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "transfer-open",
    severity: Severity::Note,
    what: "A nameserver of the domain answers a request for a transfer of the whole zone from a stranger.",
    why: "Everybody can list all names of the domain at once, inner ones too: a map for an attack. Some do \
          so on purpose.",
    cure: "Limit transfers to the secondaries, best by keys (TSIG).",
    source: "RFC 5936 section 5, RFC 2182 section 5",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| {
        let message = format!("{name} at {} gives the whole zone to anybody who asks", server.address);
        let cure = format!("limit transfers on {name} to its secondaries");
        server.probed.transfer.then(|| TEXT.finding(name, message, cure))
    })
}
