//! Signatures of the zone expire soon.

use super::{Expected, Rule, each_server};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity, minute};

use jiff::SignedDuration;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "signature-expires-soon",
    severity: Severity::Risk,
    what: "Signatures of the zone expire within two days.",
    why: "Whatever signs the zone should have renewed them long before: when they expire, the domain is \
          gone for everybody behind a validating resolver.",
    cure: "See why the zone is not signed again, and sign it.",
    source: "RFC 6781 section 4.4.2",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let Some(now) = picture.seen_at.filter(|_| picture.ds.iter().any(|ds| ds.is_supported())) else { return vec![] };
    each_server(picture, |name, server| {
        let holding = server.probed.signatures.iter().filter(|signature| signature.holds(now));
        let first = holding.min_by_key(|signature| signature.expiration)?;
        let left = first.expiration.duration_since(now);
        let message = format!("at {name} the signature of {} expires on {}", first.covered, minute(first.expiration));
        (left < SignedDuration::from_hours(48))
            .then(|| TEXT.finding(name, message, "see why the zone is not signed again, and sign it"))
    })
}
