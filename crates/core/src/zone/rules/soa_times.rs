//! SOA times out of the range that works.

use super::{Indexed, Rule};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::{Soa, show_seconds};

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "soa-times",
    severity: Severity::Risk,
    what: "The refresh, retry or expire time of the SOA record does not fit the others, or its negative TTL is extreme.",
    why: "Secondaries ask again after `refresh`, after a failure after `retry`, and stop to answer after `expire`: an \
          expire time shorter than refresh and retry takes the zone down while the primary is being mended. The \
          negative TTL is how long a name stays `no such name` after it was added.",
    cure: "Good values for most: refresh 4h, retry 30m, expire 4w, negative TTL 5m.",
    source: "RFC 1912 section 2.2, RFC 2308 section 5",
};

const DAY: u32 = 86_400;

fn check(zone: &Indexed<'_>) -> Vec<Finding> {
    let apex = zone.apex().bare();
    let finding = |message| {
        let finding = TEXT.finding(&apex, message, "change the SOA record, as in 4h 30m 4w 5m");
        zone.on_any(zone.zone.soa_record(), finding)
    };
    soa_faults(zone.zone.soa()).into_iter().map(finding).collect()
}

/// What is wrong with the times of a start of authority, in words.
pub fn soa_faults(soa: &Soa) -> Vec<String> {
    let shown = |seconds: u32| show_seconds(seconds.into());
    let mut told = Vec::new();
    if soa.retry >= soa.refresh {
        told.push(format!("retry ({}) is not shorter than refresh ({})", shown(soa.retry), shown(soa.refresh)));
    }
    if soa.expire < 7 * DAY {
        told.push(format!("expire ({}) is shorter than a week", shown(soa.expire)));
    }
    if soa.expire <= soa.refresh.saturating_add(soa.retry) {
        told.push(format!("expire ({}) is not longer than refresh and retry", shown(soa.expire)));
    }
    if soa.negative_ttl > DAY {
        told.push(format!("the negative TTL ({}) is longer than a day", shown(soa.negative_ttl)));
    }
    told
}
