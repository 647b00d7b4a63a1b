//! The one place that reads the clock.

use jiff::Timestamp;

/// The present moment.
pub fn now() -> Timestamp {
    Timestamp::now()
}
