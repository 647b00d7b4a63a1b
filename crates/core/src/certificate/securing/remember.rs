//! What could not be done yet, kept for `tend`: the reason, and the time before which trying again is pointless.

use jiff::{SignedDuration, Timestamp};

use crate::certificate::Waiting;
use crate::change::{InventoryChange, Plan};
use crate::name::Host;

/// Between two tries of `tend` after a refusal.
const SHORTEST_PAUSE: SignedDuration = SignedDuration::from_mins(10);
const LONGEST_PAUSE: SignedDuration = SignedDuration::from_hours(24);

/// A site whose order came to nothing, or left names out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refused {
    pub site: Host,
    pub reason: String,
    /// A time that somebody has named.
    pub not_before: Option<Timestamp>,
}

/// How long nothing is tried after a refusal. CAs count failed attempts: the pause grows with the time that it has been
/// tried for.
pub fn pause(since: Timestamp, now: Timestamp) -> SignedDuration {
    (now.duration_since(since) / 2).clamp(SHORTEST_PAUSE, LONGEST_PAUSE)
}

/// Decides what is kept; each with what waits for its site by now.
pub fn remember(refused: &[(Refused, Option<Waiting>)], now: Timestamp) -> Plan {
    let mut plan = Plan::new(match refused {
        [(only, _)] => format!("remember to get a certificate for {}", only.site),
        several => format!("remember to get certificates for {} sites", several.len()),
    });
    for (Refused { site, reason, not_before }, waiting) in refused {
        // Counted from the first refusal: before it, only the links were waited for.
        let refused_before = waiting.as_ref().filter(|waiting| !waiting.reason.is_empty());
        let since = refused_before.map_or(now, |waiting| waiting.since);
        let not_before = not_before.or_else(|| now.checked_add(pause(since, now)).ok());
        let (site, reason) = (site.clone(), reason.clone());
        plan.set.inventory(InventoryChange::Await(Waiting { site, since, not_before, reason }));
    }
    plan
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn the_pause_grows_from_ten_minutes_to_a_day_unless_somebody_names_a_time() {
        let now = at("2026-11-27T12:00:00Z");
        let site = Host::parse("gullrock.example").unwrap();
        let kept = |reason: &str, since: &str, named: Option<&str>| {
            let waiting = Waiting { site: site.clone(), since: at(since), not_before: None, reason: reason.into() };
            let refused = Refused { site: site.clone(), reason: "no".into(), not_before: named.map(at) };
            let plan = remember(&[(refused, Some(waiting))], now);
            let mut all = plan.set.inventory_changes().filter_map(|change| match change {
                InventoryChange::Await(waiting) => Some((waiting.since, waiting.not_before.unwrap())),
                _ => None,
            });
            all.next().unwrap()
        };
        let start = "2026-11-27T11:00:00Z";
        assert_eq!(kept("", start, None), (now, at("2026-11-27T12:10:00Z")), "only the links were waited for");
        assert_eq!(kept("no", start, None), (at(start), at("2026-11-27T12:30:00Z")));
        assert_eq!(kept("no", "2026-11-20T12:00:00Z", None).1, at("2026-11-28T12:00:00Z"));
        assert_eq!(kept("no", start, Some("2026-12-01T00:00:00Z")).1, at("2026-12-01T00:00:00Z"));
    }
}
