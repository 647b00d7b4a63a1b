//! A nameserver of a signed zone gives answers without their signatures.

use super::{Expected, Rule, each_server, first_flaw};
use crate::delegation::{Flaw, Picture};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "signature-missing",
    severity: Severity::Fault,
    what: "The parent has a DS record for the domain, and a nameserver gives records of the zone without a signature \
          by one of its keys.",
    why: "Validating resolvers take such an answer for forged and give none: for a large part of all visitors the \
          name does not exist.",
    cure: "Sign the whole zone again, and see that this server has got the signed version and gives signatures to whoever \
          asks for them (EDNS).",
    source: "RFC 4035 section 5.3",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| {
        let message = first_flaw(name, server, |flaw| matches!(flaw, Flaw::Missing))?;
        Some(TEXT.finding(name, message, "sign the whole zone again, and load the signed version on this server"))
    })
}
