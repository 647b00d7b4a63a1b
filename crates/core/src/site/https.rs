//! How far https has come, for each host of a site by itself: what is true of one name says nothing about another.
//!
//! `certificate::install` moves it forward; nothing but a wish of the administrator moves it back.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::Site;
use crate::name::Host;

/// How far https has come for a host. It only moves to `Forced` once a handshake has shown a certificate that covers it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HttpsState {
    /// http alone: no certificate covers it yet.
    #[default]
    None,
    /// https is served beside http.
    Offered,
    /// http is sent to https.
    Forced,
}

/// The states of a site's hosts.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "WrittenStates")]
pub struct HttpsStates(BTreeMap<Host, HttpsState>);

/// As the logbook has them. Its older entries have one state for a whole site, which nobody goes by any more.
#[derive(Deserialize)]
#[serde(untagged)]
enum WrittenStates {
    OfHosts(BTreeMap<Host, HttpsState>),
    OfSite(#[expect(dead_code, reason = "it is read, to be told from the other form")] HttpsState),
}

impl From<WrittenStates> for HttpsStates {
    fn from(written: WrittenStates) -> Self {
        match written {
            WrittenStates::OfHosts(states) => Self(states),
            WrittenStates::OfSite(_) => Self::default(),
        }
    }
}

impl HttpsStates {
    pub fn of(&self, host: &Host) -> HttpsState {
        self.0.get(host).copied().unwrap_or_default()
    }

    pub fn set(&mut self, host: &Host, state: HttpsState) {
        // `None` is not kept, so that equal states are equal values.
        match state {
            HttpsState::None => self.0.remove(host),
            _ => self.0.insert(host.clone(), state),
        };
    }

    /// The same state for all of them.
    pub fn all<'a>(hosts: impl IntoIterator<Item = &'a Host>, state: HttpsState) -> Self {
        let mut states = Self::default();
        hosts.into_iter().for_each(|host| states.set(host, state));
        states
    }
}

impl Site {
    pub fn https_of(&self, host: &Host) -> HttpsState {
        self.https.of(host)
    }

    /// Whether http is sent to https for this host.
    pub fn is_forced(&self, host: &Host) -> bool {
        self.https_of(host) == HttpsState::Forced
    }

    /// Takes hosts away with all that is kept of each.
    pub fn without_hosts(&self, gone: &[Host]) -> Site {
        let mut after = self.clone();
        after.hostnames.retain(|host| !gone.contains(host));
        gone.iter().for_each(|host| after.https.set(host, HttpsState::None));
        after.rules.redirects.retain(|redirect| after.hostnames.iter().any(|host| redirect.is_for(host)));
        after
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_state_is_that_of_one_host_and_none_is_the_same_as_not_kept() {
        let [bare, www] = ["gullrock.example", "www.gullrock.example"].map(|name| Host::parse(name).unwrap());
        let mut states = HttpsStates::all([&bare, &www], HttpsState::Offered);
        states.set(&bare, HttpsState::Forced);
        assert_eq!((states.of(&bare), states.of(&www)), (HttpsState::Forced, HttpsState::Offered));
        states.set(&bare, HttpsState::None);
        assert_eq!(states, HttpsStates::all([&www], HttpsState::Offered));
        assert_eq!(states.of(&bare), HttpsState::None);
        let written = serde_json::to_string(&states).unwrap();
        assert_eq!(serde_json::from_str::<HttpsStates>(&written).unwrap(), states);
        assert_eq!(serde_json::from_str::<HttpsStates>("\"forced\"").unwrap(), HttpsStates::default());
    }
}
