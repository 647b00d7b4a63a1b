//! What stands above the domain cannot be verified.

use super::{Expected, Rule};
use crate::delegation::{Chain, Picture};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "chain-broken",
    severity: Severity::Fault,
    what: "Between the key of the root and the domain, the keys or the DS records of a zone above do not fit together.",
    why: "Validating resolvers give no answer for any name below that zone: for a large part of all visitors these do not \
          exist.",
    cure: "This is for whoever runs the zone that is named: tell them. If it is a zone of a closed network, see that the trust \
          anchor in harbor.toml is its present key.",
    source: "RFC 4035 section 5.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let Chain::Broken { zone, why } = &picture.chain else { return vec![] };
    let cure = match *zone == picture.domain {
        true => format!("tell whoever runs {}: it is to sign its zone again", picture.parent_zone),
        false => format!("tell whoever runs {zone}, or have the trust anchor set right in a closed network"),
    };
    vec![TEXT.finding(zone.bare(), why.clone(), cure)]
}
