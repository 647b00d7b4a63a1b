//! How often one server may be asked: a bound of questions a second, with a small burst.

use std::net::SocketAddr;
use std::sync::Mutex;
use std::time::Duration;

use tokio::time::{Instant, sleep_until};

use super::Table;

/// Questions at once before the bound begins to hold.
const BURST: u32 = 20;

/// Keeps the next free moment of every server.
pub(super) struct Pace {
    /// Between two questions to one server; zero: no bound.
    gap: Duration,
    free_at: Mutex<Table<SocketAddr, Instant>>,
}

impl Pace {
    /// `per_second` questions to one server; 0 for no bound.
    pub fn new(per_second: u32) -> Self {
        let gap = if per_second == 0 { Duration::ZERO } else { Duration::from_secs(1) / per_second };
        Self { gap, free_at: Mutex::default() }
    }

    /// Waits for this server's turn.
    pub async fn turn(&self, server: SocketAddr) {
        if self.gap.is_zero() {
            return;
        }
        let now = Instant::now();
        let at = {
            let Ok(mut free_at) = self.free_at.lock() else { return };
            // Time that was not used is saved up, as far as the burst goes.
            let earliest = now.checked_sub(self.gap * BURST).unwrap_or(now);
            let slot = free_at.entry(server).or_insert(earliest);
            *slot = (*slot).max(earliest) + self.gap;
            *slot
        };
        if at > now {
            sleep_until(at).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_burst_is_free_and_then_the_bound_holds() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        let pace = Pace::new(1000);
        let started = Instant::now();
        runtime.block_on(async {
            for _ in 0..120 {
                pace.turn("127.0.0.1:53".parse().unwrap()).await;
            }
            pace.turn("127.0.0.2:53".parse().unwrap()).await;
        });
        let took = started.elapsed();
        assert!(took >= Duration::from_millis(95) && took < Duration::from_millis(1500), "{took:?}");
    }
}
