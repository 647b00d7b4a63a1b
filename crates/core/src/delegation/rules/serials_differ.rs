//! The nameservers have different versions of the zone.

use super::{Expected, Rule};
use crate::delegation::{Picture, ServerState};
use crate::finding::{Finding, RuleText, Severity};
use crate::zone::serial_is_newer;

pub(super) const RULE: Rule = Rule { text: &TEXT, check };

const TEXT: RuleText = RuleText {
    code: "serials-differ",
    severity: Severity::Risk,
    what: "The nameservers answer with different serials in the SOA record: not all of them have the newest \
          zone.",
    why: "Visitors get old or new data, depending on which server their resolver happens to ask.",
    cure: "A moment after a change this is usual, and ends by itself when secondaries ask again, at the \
          latest after the refresh time. If it lasts: see that the primary notifies the others and lets \
          them transfer the zone, and that its serial has grown.",
    source: "RFC 1034 section 4.3.5, RFC 1982",
};

fn check(picture: &Picture, expected: &Expected) -> Vec<Finding> {
    let serials: Vec<(String, u32)> = picture
        .servers()
        .filter_map(|(nameserver, server)| match &server.state {
            ServerState::Authoritative { serial, .. } => Some((nameserver.name.bare(), *serial)),
            _ => None,
        })
        .collect();
    let newest = serials.iter().map(|(_, serial)| *serial).reduce(|a, b| if serial_is_newer(b, a) { b } else { a });
    let Some(newest) = newest else { return vec![] };
    let mut behind: Vec<String> = serials
        .iter()
        .filter(|(_, serial)| *serial != newest)
        .map(|(name, serial)| format!("{name} has {serial}, {} behind", newest.wrapping_sub(*serial)))
        .collect();
    behind.dedup();
    if behind.is_empty() {
        return vec![];
    }
    let message = format!("the newest serial is {newest}; {}", behind.join("; "));
    let cure = "see that the primary notifies its secondaries and lets them transfer the zone";
    let mut finding = TEXT.finding(picture.domain.bare(), message, cure);
    // Secondaries ask by themselves after the refresh time, once more after the retry time.
    let soa = picture.servers().find_map(|(_, server)| server.probed.soa.as_ref());
    if let (Some(changed), Some(soa)) = (expected.changed_at, soa) {
        finding = finding.waiting(changed, u64::from(soa.refresh) + u64::from(soa.retry), picture.seen_at);
    }
    vec![finding]
}
