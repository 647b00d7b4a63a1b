//! Remembers for a little while which servers did not answer, so that one command waits for each of them once.
//!
//! A server that has answered anything over the same transport is asked in full all the same: it may be silent about some
//! questions alone, which is a finding of its own.

use std::net::SocketAddr;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use super::Table;

/// Who waits for a server to come up asks again later than this.
const REMEMBERED: Duration = Duration::from_secs(10);

#[derive(Debug, Clone, Copy)]
enum Heard {
    Something,
    NothingSince(Instant),
}

#[derive(Default)]
pub(super) struct Silence(Mutex<Option<Table<(SocketAddr, bool), Heard>>>);

/// Of this process: a command is one.
pub(super) static SILENCE: Silence = Silence(Mutex::new(None));

impl Silence {
    /// Whether the server was waited for in vain just now.
    pub(super) fn is_known(&self, server: SocketAddr, over_tcp: bool) -> bool {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let heard = all.as_ref().and_then(|all| all.get(&(server, over_tcp)));
        matches!(heard, Some(Heard::NothingSince(since)) if since.elapsed() < REMEMBERED)
    }

    pub(super) fn note(&self, server: SocketAddr, over_tcp: bool, was_silent: bool) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let all = all.get_or_insert_default();
        match (was_silent, all.get(&(server, over_tcp))) {
            (true, Some(Heard::Something)) => {}
            (true, _) => drop(all.insert((server, over_tcp), Heard::NothingSince(Instant::now()))),
            (false, _) => drop(all.insert((server, over_tcp), Heard::Something)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_has_answered_is_never_taken_for_silent_and_transports_are_two() {
        let silence = Silence::default();
        let [quiet, shy] = ["192.0.2.1:53", "192.0.2.2:53"].map(|address| address.parse().unwrap());
        silence.note(quiet, false, true);
        assert!(silence.is_known(quiet, false) && !silence.is_known(quiet, true));
        silence.note(shy, false, false);
        silence.note(shy, false, true);
        assert!(!silence.is_known(shy, false));
        silence.note(quiet, false, false);
        assert!(!silence.is_known(quiet, false));
    }
}
