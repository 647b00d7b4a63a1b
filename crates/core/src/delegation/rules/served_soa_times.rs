//! The times of the SOA record do not work together.

use super::{Expected, Rule};
use crate::delegation::Picture;
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::Soa;
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
    let domain = picture.domain.bare();
    let served: Vec<_> = picture
        .authoritative_servers()
        .filter_map(|(nameserver, server)| Some((nameserver.name.bare(), server.probed.soa.as_ref()?)))
        .collect();
    let mut findings: Vec<Finding> = Vec::new();
    for (name, soa) in &served {
        let times = |soa: &Soa| [soa.refresh, soa.retry, soa.expire, soa.negative_ttl];
        let alike = served.iter().all(|(_, other)| times(other) == times(soa));
        for fault in soa_faults(soa) {
            let message = if alike { fault } else { format!("on {name}: {fault}") };
            if !findings.iter().any(|finding| finding.message == message) {
                findings.push(TEXT.finding(&domain, message, "change the SOA record, as in 4h 30m 4w 5m"));
            }
        }
    }
    findings
}
