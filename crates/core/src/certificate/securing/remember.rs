//! What could not be done yet, kept for `tend`: the reason, and the time before which trying again is pointless.

use jiff::{SignedDuration, Timestamp};

use crate::acme::Identifier;
use crate::certificate::{NamePause, Waiting};
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
    /// The names that it is about, if not about the site as a whole: each of these has a pause of its own.
    pub names: Vec<(Identifier, String)>,
}

/// One of them, with what is kept of its site already.
#[derive(Debug, Clone)]
pub struct Remembered {
    pub refused: Refused,
    pub waiting: Option<Waiting>,
    pub pauses: Vec<NamePause>,
}

/// How long nothing is tried after a refusal. CAs count failed attempts: the pause grows with the time that it has been
/// tried for.
pub fn pause(since: Timestamp, now: Timestamp) -> SignedDuration {
    (now.duration_since(since) / 2).clamp(SHORTEST_PAUSE, LONGEST_PAUSE)
}

/// Decides what is kept; each with what is kept of its site by now.
pub fn remember(all: &[Remembered], now: Timestamp) -> Plan {
    let mut plan = Plan::new(match all {
        [only] => format!("remember to get a certificate for {}", only.refused.site),
        several => format!("remember to get certificates for {} sites", several.len()),
    });
    for Remembered { refused: Refused { site, reason, not_before, names }, waiting, pauses } in all {
        for (name, reason) in names {
            let since = pauses.iter().find(|pause| pause.name == *name).map_or(now, |pause| pause.since);
            let Some(not_before) = not_before.or_else(|| now.checked_add(pause(since, now)).ok()) else { continue };
            let (name, site, reason) = (name.clone(), site.clone(), reason.clone());
            plan.set.inventory(InventoryChange::Pause(NamePause { name, site, since, not_before, reason }));
        }
        if !names.is_empty() {
            continue;
        }
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
            let refused = Refused { site: site.clone(), reason: "no".into(), not_before: named.map(at), names: vec![] };
            let plan = remember(&[Remembered { refused, waiting: Some(waiting), pauses: vec![] }], now);
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

    #[test]
    fn a_name_pauses_by_itself_and_its_site_does_not_wait() {
        let now = at("2026-11-27T12:00:00Z");
        let [site, quay, pier] =
            ["gullrock.example", "quay.example", "pier.example"].map(|name| Host::parse(name).unwrap());
        let known = NamePause {
            name: quay.clone().into(),
            site: site.clone(),
            since: at("2026-11-27T10:00:00Z"),
            not_before: now,
            reason: "no".into(),
        };
        let names = vec![(quay.into(), "still no".into()), (pier.into(), "no".to_string())];
        let refused = Refused { site, reason: String::new(), not_before: None, names };
        let plan = remember(&[Remembered { refused, waiting: None, pauses: vec![known] }], now);
        let kept: Vec<String> = plan
            .set
            .inventory_changes()
            .map(|change| match change {
                InventoryChange::Pause(NamePause { name, site, not_before, reason, .. }) => {
                    format!("{name} of {site}, {not_before}: {reason}")
                }
                other => format!("{other:?}"),
            })
            .collect();
        let expected = [
            "quay.example of gullrock.example, 2026-11-27T13:00:00Z: still no",
            "pier.example of gullrock.example, 2026-11-27T12:10:00Z: no",
        ];
        assert_eq!(kept, expected);
    }
}
