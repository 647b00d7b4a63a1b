//! When certificates expire, as bars by week or month: where each bar stands, and what it says. Drawn by the template.

use brightharbor_core::certificate::Certificate;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use jiff::{Span, Timestamp};
use serde::Serialize;

/// The drawing's own units; it is scaled to the page.
const WIDTH: f64 = 960.0;
const HEIGHT: f64 = 220.0;
/// Below the bars, for the dates.
const FOOT: f64 = 28.0;
/// Above the highest bar, for its number.
const HEAD: f64 = 24.0;
/// With more weeks than this, months are counted.
const MOST_WEEKS: i64 = 30;
/// What ends later is counted in the last month.
const MOST_MONTHS: usize = 30;

#[derive(Debug, Serialize)]
pub(super) struct Calendar {
    width: f64,
    height: f64,
    floor: f64,
    /// `week` or `month`.
    step: &'static str,
    bars: Vec<Bar>,
    /// Those that are over, which have no bar.
    over: usize,
}

#[derive(Debug, Serialize)]
struct Bar {
    x: f64,
    width: f64,
    /// Renewed by nobody here.
    theirs: Part,
    ours: Part,
    total: usize,
    /// Above the bar.
    number_y: f64,
    middle: f64,
    /// Below every so many bars.
    label: Option<String>,
    from: String,
}

#[derive(Debug, Default, Serialize)]
struct Part {
    count: usize,
    y: f64,
    height: f64,
}

/// `None` where nothing expires.
pub(super) fn calendar(certificates: &[&Certificate], now: Timestamp) -> Option<Calendar> {
    let today = day(now);
    let ends = certificates.iter().filter(|one| one.not_after > now);
    let ends: Vec<(Date, bool)> = ends.map(|one| (day(one.not_after), one.is_renewed_here())).collect();
    let last = ends.iter().map(|(day, _)| *day).max()?;
    let weeks = (last - today).get_days() as i64 / 7 + 1;
    let by_month = weeks > MOST_WEEKS;
    let first = if by_month { today.first_of_month() } else { monday(today) };
    let place = |day: Date| match by_month {
        true => {
            let months = (i32::from(day.year()) - i32::from(first.year())) * 12 + i32::from(day.month())
                - i32::from(first.month());
            (months.max(0) as usize).min(MOST_MONTHS - 1)
        }
        false => ((day - first).get_days() / 7).max(0) as usize,
    };
    let mut counts = vec![(0, 0); place(last) + 1];
    for (day, ours) in &ends {
        let (mine, theirs) = &mut counts[place(*day)];
        *(if *ours { mine } else { theirs }) += 1;
    }
    let most = counts.iter().map(|(ours, theirs)| ours + theirs).max().unwrap_or(1).max(1);
    let room = WIDTH / counts.len() as f64;
    let scale = (HEIGHT - HEAD - FOOT) / most as f64;
    let floor = HEIGHT - FOOT;
    let every = counts.len().div_ceil(10);
    let bars = counts.iter().enumerate().map(|(at, &(ours, theirs))| {
        let (mine, other) = (ours as f64 * scale, theirs as f64 * scale);
        let width = (room * 0.7).min(48.0);
        let x = room * at as f64 + (room - width) / 2.0;
        let from = begin(first, at, by_month);
        Bar {
            x,
            width,
            ours: Part { count: ours, y: floor - mine, height: mine },
            theirs: Part { count: theirs, y: floor - mine - other, height: other },
            total: ours + theirs,
            number_y: floor - mine - other - 6.0,
            middle: x + width / 2.0,
            label: (at % every == 0).then(|| from.strftime(if by_month { "%b %Y" } else { "%-d %b" }).to_string()),
            from: from.to_string(),
        }
    });
    let bars = bars.collect();
    let step = if by_month { "month" } else { "week" };
    Some(Calendar { width: WIDTH, height: HEIGHT, floor, step, bars, over: certificates.len() - ends.len() })
}

fn day(moment: Timestamp) -> Date {
    moment.to_zoned(TimeZone::UTC).date()
}

fn monday(day: Date) -> Date {
    let back = i64::from(day.weekday().to_monday_zero_offset());
    day.checked_sub(Span::new().days(back)).unwrap_or(day)
}

fn begin(first: Date, at: usize, by_month: bool) -> Date {
    let at = at as i64;
    let span = if by_month { Span::new().months(at) } else { Span::new().weeks(at) };
    first.checked_add(span).unwrap_or(first)
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::certificate::CertificateSource;

    fn ending(days: i64, source: CertificateSource) -> Certificate {
        let text = r#"{"site":"gullrock.example","names":["gullrock.example"],"files":{"folder":"/c"},"state":"served",
                       "not_before":"2026-11-01T00:00:00Z","not_after":"2026-11-28T12:00:00Z","details":{}}"#;
        let made: Certificate = serde_json::from_str(text).unwrap();
        Certificate { not_after: now() + jiff::SignedDuration::from_hours(24 * days), source, ..made }
    }

    fn now() -> Timestamp {
        "2026-11-28T12:00:00Z".parse().unwrap()
    }

    #[test]
    fn each_certificate_stands_in_the_week_of_its_end() {
        let all = [
            ending(1, CertificateSource::Ca),
            ending(2, CertificateSource::Imported),
            ending(20, CertificateSource::Ca),
            ending(-1, CertificateSource::Ca),
        ];
        let made = calendar(&all.iter().collect::<Vec<_>>(), now()).unwrap();
        assert_eq!((made.step, made.over, made.bars.len()), ("week", 1, 4));
        let counts: Vec<_> = made.bars.iter().map(|bar| (bar.ours.count, bar.theirs.count)).collect();
        // Saturday the 28th: Sunday is of the same week, Monday begins the next.
        assert_eq!(counts, [(1, 0), (0, 1), (0, 0), (1, 0)]);
        assert_eq!(made.bars[0].from, "2026-11-23");
        assert!(made.bars.iter().all(|bar| bar.x >= 0.0 && bar.x + bar.width <= made.width));
        assert!(made.bars.iter().all(|bar| bar.ours.y >= HEAD && bar.theirs.y >= HEAD && bar.ours.y <= made.floor));
    }

    #[test]
    fn what_ends_far_off_is_counted_by_month_and_nothing_is_drawn_of_nothing() {
        let all = [
            ending(10, CertificateSource::Ca),
            ending(300, CertificateSource::Ca),
            ending(9_000, CertificateSource::Ca),
        ];
        let made = calendar(&all.iter().collect::<Vec<_>>(), now()).unwrap();
        assert_eq!((made.step, made.bars.len()), ("month", MOST_MONTHS));
        assert_eq!(made.bars.iter().map(|bar| bar.total).sum::<usize>(), 3);
        assert_eq!((made.bars[1].total, made.bars[1].from.as_str()), (1, "2026-12-01"));
        assert!(calendar(&[], now()).is_none());
        assert!(calendar(&[&ending(-3, CertificateSource::Ca)], now()).is_none());
    }
}
