//! The times of the SOA record do not work together.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::rules::soa_faults;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "served-soa-times",
    severity: Severity::Risk,
    what: "The refresh, retry or expire time that the nameservers give for the zone does not fit the \
          others, or the negative TTL is extreme.",
    why: "Secondaries stop to answer after the expire time: one that is shorter than refresh and retry \
          takes the zone down while the primary is being mended. The negative TTL is how long a name stays \
          unknown after it was added.",
    cure: "Good values for most zones: refresh 4h, retry 30m, expire 4w, negative TTL 5m.",
    source: "RFC 1912 section 2.2, RFC 2308 section 5",
};

fn check(picture: &Picture, _: &Expected) -> Vec<Finding> {
    let soa = picture.authoritative_servers().find_map(|(_, server)| server.probed.soa.as_ref());
    let faults = soa.map(soa_faults).unwrap_or_default();
    let domain = picture.domain.bare();
    faults
        .into_iter()
        .map(|message| TEXT.finding(&domain, message, "change the SOA record, as in 4h 30m 4w 5m"))
        .collect()
}
