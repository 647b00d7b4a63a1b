//! Since when hostnames stop as they do now: as an earlier look or a notice has it, else from this look on.

use std::collections::{BTreeMap, HashMap};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::Survey;
use crate::notice::{Told, Topic};

/// A hostname that stops, by the code of the first link that does not hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stopped {
    pub code: String,
    pub since: Timestamp,
}

/// By hostname. Of what was seen before, only the same code counts: another reason is another story.
pub type StoppedSince = BTreeMap<String, Stopped>;

pub fn stopped_since(surveys: &[Survey], before: &StoppedSince, told: &[Told], now: Timestamp) -> StoppedSince {
    let of_links = told.iter().filter(|told| matches!(told.topic, Topic::LinkBroken | Topic::DelegationBroken));
    let told: HashMap<(&str, Option<&str>), Timestamp> =
        of_links.map(|told| ((told.subject.as_str(), told.code.as_deref()), told.since)).collect();
    let stops = surveys.iter().filter_map(|survey| {
        let (name, code) = (survey.hostname.as_str(), survey.first_open()?.code);
        let seen = before.get(name).filter(|seen| seen.code == code).map(|seen| seen.since);
        let noticed = told.get(&(name, Some(code))).copied();
        // What lies in the future was not seen.
        let since = seen.into_iter().chain(noticed).filter(|since| *since <= now).min().unwrap_or(now);
        Some((name.to_string(), Stopped { code: code.into(), since }))
    });
    stops.collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::Host;
    use crate::survey::{Link, LinkName, LinkState};

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn survey(name: &str, state: LinkState) -> Survey {
        let link =
            Link { name: LinkName::Lands, state, code: "closed", because: "b".into(), turn: None, values: vec![] };
        Survey { hostname: Host::parse(name).unwrap(), links: vec![link] }
    }

    fn seen(code: &str, second: i64) -> StoppedSince {
        BTreeMap::from([("quay.example".into(), Stopped { code: code.into(), since: at(second) })])
    }

    fn told(topic: Topic, code: &str, second: i64) -> Told {
        Told { topic, subject: "quay.example".into(), code: Some(code.into()), since: at(second), told: at(second) }
    }

    #[test]
    fn the_earliest_that_anybody_has_seen_of_the_same_reason_counts() {
        let surveys = [survey("quay.example", LinkState::Broken), survey("yard.example", LinkState::Holds)];
        let since = |before: &StoppedSince, told: &[Told]| {
            let all = stopped_since(&surveys, before, told, at(100));
            assert_eq!((all.len(), all["quay.example"].code.as_str()), (1, "closed"), "what works has not stopped");
            all["quay.example"].since
        };
        let nothing = StoppedSince::new();
        assert_eq!(since(&nothing, &[]), at(100));
        assert_eq!(since(&seen("closed", 40), &[]), at(40));
        assert_eq!(since(&seen("not-here", 40), &[]), at(100));
        assert_eq!(since(&seen("closed", 400), &[]), at(100), "nobody sees the future");
        assert_eq!(since(&seen("closed", 40), &[told(Topic::LinkBroken, "closed", 30)]), at(30));
        assert_eq!(since(&nothing, &[told(Topic::DelegationBroken, "closed", 50)]), at(50));
        assert_eq!(since(&nothing, &[told(Topic::LinkBroken, "not-here", 50)]), at(100));
        assert_eq!(since(&nothing, &[told(Topic::ZoneBehind, "closed", 50)]), at(100));
    }
}
