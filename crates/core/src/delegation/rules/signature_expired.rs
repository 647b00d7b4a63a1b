//! Signatures of the zone do not hold any more.

use super::{Expected, Rule, each_server, first_flaw, wanted_tags};
use crate::delegation::{Flaw, Picture};
use crate::finding::{Finding, RuleText, Severity, minute};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "signature-expired",
    severity: Severity::Fault,
    what: "The parent has a DS record for the domain, and signatures of its records have \
          expired, or are not valid yet.",
    why: "Validating resolvers take every answer for forged and give none: for a large part of all \
          visitors the domain does not exist.",
    cure: "Sign the zone again, and see that whatever signs it runs regularly; see that the clock of that \
          machine is right.",
    source: "RFC 4035 section 5.3.1",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let Some(now) = picture.seen_at.filter(|_| wanted_tags(picture).is_some()) else { return vec![] };
    let is_late = |flaw: &Flaw| matches!(flaw, Flaw::Expired { .. } | Flaw::NotYet { .. });
    each_server(picture, |name, server| {
        let signatures = &server.probed.signatures;
        // One that holds is enough for each type.
        let spoilt = signatures
            .iter()
            .find(|spoilt| !signatures.iter().any(|other| other.covered == spoilt.covered && other.holds(now)));
        let cure = "sign the zone again, and see that it is signed regularly";
        let Some(spoilt) = spoilt else {
            return first_flaw(name, server, is_late).map(|message| TEXT.finding(name, message, cure));
        };
        let when = match spoilt.inception > now {
            true => format!("is valid from {} on", minute(spoilt.inception)),
            false => format!("has expired on {}", minute(spoilt.expiration)),
        };
        let message = format!("at {name} ({}) the signature of {} {when}", server.address, spoilt.covered);
        Some(TEXT.finding(name, message, cure))
    })
}
