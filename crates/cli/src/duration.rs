//! Durations as people type them: seconds, or with units as in zone files (`1h30m`, `26w`); and the end of a day.

use std::time::Duration;

use brightharbor_core::zone::parse_ttl;
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

use crate::error::Error;

/// Reads a duration; `advice` says how it is given here.
pub fn parse_duration(typed: &str, advice: &str) -> Result<Duration, Error> {
    let wrong = || {
        let shown: String = typed.chars().take(40).flat_map(char::escape_debug).collect();
        Error::wrong_use(format!("`{shown}` is not a duration")).advice(advice)
    };
    parse_ttl(typed.trim()).map(|seconds| Duration::from_secs(seconds.into())).ok_or_else(wrong)
}

/// The moment at which a day is over (UTC).
pub fn end_of_day(date: Date) -> Result<Timestamp, Error> {
    let next = date.tomorrow().and_then(|next| next.to_zoned(TimeZone::UTC));
    next.map(|midnight| midnight.timestamp()).map_err(|_| Error::wrong_use(format!("{date} is not a day to end on")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seconds_units_and_nonsense() {
        let read = |typed: &str| parse_duration(typed, "give it as 30m").map(|duration| duration.as_secs());
        assert_eq!((read("90").unwrap(), read(" 1h30m ").unwrap(), read("2d").unwrap()), (90, 5_400, 172_800));
        for wrong in ["", "soon", "-5", "1x", "1h\n2", &"9".repeat(60)] {
            let error = read(wrong).unwrap_err();
            assert!(error.message.ends_with("is not a duration") && error.message.len() < 120, "{}", error.message);
            assert_eq!(error.advice.as_deref(), Some("give it as 30m"));
        }
    }
}
