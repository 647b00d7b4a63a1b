//! The SOA serial: it always grows, by the arithmetic of RFC 1982.
//!
//! Which of the two customs a zone follows (YYYYMMDDnn or a counter) is read off its present serial.

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;

/// Whether `new` is newer than `old` (RFC 1982 section 3.2). Two serials exactly 2^31 apart are not comparable.
pub fn serial_is_newer(new: u32, old: u32) -> bool {
    let distance = new.wrapping_sub(old);
    distance != 0 && distance < 0x8000_0000
}

/// The newest of some serials.
pub fn newest_serial(serials: impl IntoIterator<Item = u32>) -> Option<u32> {
    serials.into_iter().reduce(|newest, serial| if serial_is_newer(serial, newest) { serial } else { newest })
}

/// The serial after `current`: today's first (or next) number where the zone uses date serials, else one more.
pub fn next_serial(current: u32, today: Date) -> u32 {
    let first_of_today = today.year() as u32 * 1_000_000 + today.month() as u32 * 10_000 + today.day() as u32 * 100 + 1;
    if is_date_style(current) && serial_is_newer(first_of_today, current) {
        return first_of_today;
    }
    // 0 is skipped: some secondaries take it for "no zone yet".
    match current.wrapping_add(1) {
        0 => 1,
        next => next,
    }
}

/// The day that serials in the date style go by at a moment, in UTC: the same on every host of a zone's administrators.
pub fn serial_date(now: Timestamp) -> Date {
    now.to_zoned(TimeZone::UTC).date()
}

fn is_date_style(serial: u32) -> bool {
    let (year, month, day) = (serial / 1_000_000, serial / 10_000 % 100, serial / 100 % 100);
    (1980..2200).contains(&year) && Date::new(year as i16, month as i8, day as i8).is_ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const TODAY: Date = Date::constant(2026, 11, 23);

    #[test]
    fn date_serials_go_to_today_and_then_count() {
        assert_eq!(next_serial(2026112007, TODAY), 2026112301);
        assert_eq!(next_serial(2026112301, TODAY), 2026112302);
        assert_eq!(next_serial(2026123101, TODAY), 2026123102, "a serial from the future still grows");
        assert_eq!(next_serial(2026112399, TODAY), 2026112400);
    }

    #[test]
    fn counters_count() {
        assert_eq!(next_serial(7, TODAY), 8);
        assert_eq!(next_serial(u32::MAX, TODAY), 1);
        assert_eq!(next_serial(2026130100, TODAY), 2026130101, "no month 13: a counter");
    }

    #[test]
    fn the_newest_goes_round_the_end_of_the_numbers() {
        assert_eq!(newest_serial([7, u32::MAX, 5]), Some(7));
        assert_eq!((newest_serial([3]), newest_serial([])), (Some(3), None));
    }

    proptest! {
        #[test]
        fn the_next_serial_is_always_newer(current: u32) {
            prop_assert!(serial_is_newer(next_serial(current, TODAY), current));
        }
    }
}
