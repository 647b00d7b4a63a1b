//! The server staples an answer about revocation that nobody can use.

use super::{Rule, shown};
use crate::certificate::{Installed, RevocationStatus, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "staple-worthless",
    severity: Severity::Fault,
    what: "The server staples an answer of the CA that does not count: it is out of date, about another certificate, or not \
           signed by the issuer.",
    why: "Programs that heed stapled answers, some browsers among them, refuse the connection, though the certificate is good.",
    cure: "Have the server fetch a new answer (mostly by a reload, once it reaches the CA's responder), or turn stapling off.",
    source: "RFC 6960 section 3.2, RFC 6066 section 8",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let (Some(RevocationStatus::Unknown(why)), Some(leaf)) = (&served.staple, served.chain.first()) else {
        return vec![];
    };
    let message = format!("{} staples an answer about {} that does not count: {why}", served.address, shown(leaf));
    vec![TEXT.finding(&served.host, message, "have a new answer fetched, or turn stapling off")]
}
