//! A nameserver of a signed zone says that something is not there, without a proof of it.

use super::{Expected, Rule, each_server, first_flaw};
use crate::delegation::{Flaw, Picture};
use crate::finding::{Finding, RuleText, Severity};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "absence-unproven",
    severity: Severity::Fault,
    what: "A nameserver of a signed zone answers that a name or a record does not exist, and the NSEC or NSEC3 records that \
          prove it are missing or do not fit.",
    why: "Validating resolvers take such an answer for forged: names that do not exist, and addresses of the kind that the \
          host does not have, are looked up again and again, and end in an error.",
    cure: "Sign the zone again, so that the chain of NSEC or NSEC3 records is whole, and load it on all its servers.",
    source: "RFC 4035 section 5.4, RFC 5155 section 8",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    each_server(picture, |name, server| {
        let message = first_flaw(name, server, |flaw| matches!(flaw, Flaw::Unproven))?;
        Some(TEXT.finding(name, message, "sign the zone again, so that its NSEC or NSEC3 records are whole"))
    })
}
