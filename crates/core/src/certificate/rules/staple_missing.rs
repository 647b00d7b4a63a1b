//! The certificate demands a stapled statement, and the server sends none.

use super::{Rule, shown};
use crate::certificate::{Installed, Served};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "staple-missing",
    severity: Severity::Fault,
    what: "The certificate says that a statement about its revocation comes with every handshake, and none came.",
    why: "Programs that heed this, some browsers among them, refuse the connection.",
    cure: "Have the server staple OCSP answers, or get a certificate that does not demand it.",
    source: "RFC 7633 section 4, RFC 6066 section 8",
};

fn check(served: &Served, _: &Installed) -> Vec<Finding> {
    let Some(leaf) = served.chain.first().filter(|leaf| leaf.must_staple && served.staple.is_none()) else {
        return vec![];
    };
    let message = format!("{} demands stapling, and {} staples nothing", shown(leaf), served.address);
    vec![TEXT.finding(&served.host, message, "turn on stapling, or get another certificate")]
}
