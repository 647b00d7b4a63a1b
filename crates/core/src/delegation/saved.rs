//! A walk that was saved: what was seen of one domain, to be judged again later without a network.
//!
//! One line of JSON a domain, so that ten thousand of them are written and read as a stream. Reading is bounded and
//! takes nothing on trust: what is missing counts as silence.

use std::net::SocketAddr;
use std::sync::Arc;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};

use super::{Brief, Cuts, Ds, Observation, Observations, Outcome, Picture, Step, next_questions};
use crate::name::DnsName;

/// A line longer than this, in bytes, was not written by this program.
pub const MOST_BYTES: usize = 8 * 1024 * 1024;
/// Rounds of a walk; one that is whole takes a few.
const MOST_ROUNDS: usize = 200;

#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SavedWalk {
    pub format: u32,
    pub domain: DnsName,
    pub roots: Vec<SocketAddr>,
    pub dns_port: u16,
    pub hostnames: Vec<DnsName>,
    pub cuts: Cuts,
    #[serde(default)]
    pub anchors: Vec<Ds>,
    pub observations: Vec<Observation>,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SavedError {
    #[error("the line has more than {MOST_BYTES} bytes")]
    TooLong,
    #[error("not a saved walk: {0}")]
    NotOurs(String),
    #[error("it was saved in the format {0}, which this version does not know")]
    Format(u32),
}

impl SavedWalk {
    pub fn new(brief: &Brief, seen: &Observations) -> Self {
        let mut observations: Vec<Observation> = seen.iter().cloned().collect();
        observations.sort_by_key(|observation| observation.at);
        Self {
            format: 1,
            domain: brief.domain.clone(),
            roots: brief.roots.clone(),
            dns_port: brief.dns_port,
            hostnames: brief.hostnames.clone(),
            cuts: (*brief.cuts).clone(),
            anchors: brief.anchors.clone(),
            observations,
        }
    }

    pub fn read(line: &str) -> Result<Self, SavedError> {
        if line.len() > MOST_BYTES {
            return Err(SavedError::TooLong);
        }
        let saved: Self = serde_json::from_str(line).map_err(|error| SavedError::NotOurs(error.to_string()))?;
        if saved.format == 1 { Ok(saved) } else { Err(SavedError::Format(saved.format)) }
    }

    pub fn line(&self) -> String {
        serde_json::to_string(self).expect("plain values become JSON")
    }

    /// The picture that the walk gave.
    pub fn picture(self) -> Picture {
        let last = self.observations.iter().map(|observation| observation.at).max();
        let brief = Brief {
            domain: self.domain,
            roots: self.roots,
            dns_port: self.dns_port,
            hostnames: self.hostnames,
            most_questions: self.observations.len() + 1_000,
            thorough: true,
            validates: true,
            anchors: self.anchors,
            cuts: Arc::new(self.cuts),
        };
        let mut seen = Observations::default();
        self.observations.into_iter().for_each(|observation| seen.add(observation));
        for _ in 0..MOST_ROUNDS {
            match next_questions(&brief, &seen) {
                Step::Whole(picture) => return *picture,
                Step::Ask(questions) => {
                    let at = last.unwrap_or(Timestamp::UNIX_EPOCH);
                    for question in questions {
                        seen.add(Observation { question, outcome: Outcome::Silent, at, elapsed_ms: 0 });
                    }
                }
            }
        }
        Picture::unasked(brief.domain)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const LINE: &str = r#"{"format":1,"domain":"gullrock.example.","roots":["192.0.2.1:53"],"dns_port":53,
        "hostnames":[],"cuts":{},"observations":[]}"#;

    #[test]
    fn what_is_missing_counts_as_silence() {
        let picture = SavedWalk::read(LINE).unwrap().picture();
        assert!(matches!(picture.registered, crate::delegation::Registered::Unknown(_)), "{picture:?}");
        assert_eq!(SavedWalk::read(&LINE.replace("\"format\":1", "\"format\":2")).unwrap_err(), SavedError::Format(2));
        assert!(matches!(SavedWalk::read("{}"), Err(SavedError::NotOurs(_))));
        assert_eq!(SavedWalk::read(&" ".repeat(MOST_BYTES + 1)).unwrap_err(), SavedError::TooLong);
    }

    proptest! {
        #[test]
        fn spoilt_lines_never_panic(at in 0..190_usize, with in "[ -~]{0,3}") {
            let mut line = LINE.to_string();
            let at = at % LINE.len();
            line.replace_range(at..at + 1, &with);
            if let Ok(saved) = SavedWalk::read(&line) {
                saved.picture();
            }
        }
    }
}
