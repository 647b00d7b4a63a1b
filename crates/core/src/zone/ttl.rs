//! Times in zone files: plain seconds, or numbers with units as in `1h30m` (read by all common servers).

/// Reads a TTL or SOA time: seconds, or numbers with the units `s m h d w`. `None` when it is neither, or above 32
/// bits.
pub fn parse_ttl(text: &str) -> Option<u32> {
    if text.is_empty() || !text.as_bytes()[0].is_ascii_digit() {
        return None;
    }
    let mut total: u64 = 0;
    let mut number: Option<u64> = None;
    let mut units = false;
    for byte in text.bytes() {
        if byte.is_ascii_digit() {
            number = Some(number.unwrap_or(0).checked_mul(10)?.checked_add(u64::from(byte - b'0'))?);
            continue;
        }
        let factor = match byte.to_ascii_lowercase() {
            b's' => 1,
            b'm' => 60,
            b'h' => 3_600,
            b'd' => 86_400,
            b'w' => 604_800,
            _ => return None,
        };
        total = total.checked_add(number.take()?.checked_mul(factor)?)?;
        units = true;
    }
    let total = match (number, units) {
        (Some(seconds), false) => seconds,
        (None, true) => total,
        _ => return None,
    };
    u32::try_from(total).ok()
}

/// Seconds for people: `90 s`, `5 min`, `2 h 30 min`, `3 d`; the two largest units.
pub fn show_seconds(seconds: u64) -> String {
    let units = [(86_400, "d"), (3_600, "h"), (60, "min"), (1, "s")];
    let mut rest = seconds;
    let mut parts = Vec::new();
    for (size, name) in units {
        if rest >= size {
            parts.push(format!("{} {name}", rest / size));
            rest %= size;
        }
    }
    parts.truncate(2);
    if parts.is_empty() { "0 s".into() } else { parts.join(" ") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn seconds_and_units() {
        assert_eq!(parse_ttl("3600"), Some(3600));
        assert_eq!(parse_ttl("1h30m"), Some(5400));
        assert_eq!(parse_ttl("1W2D"), Some(777_600));
        assert_eq!(parse_ttl("0"), Some(0));
        for wrong in ["", "h", "1h30", "1x", "-1", "IN", "99999999999999999999999w"] {
            assert_eq!(parse_ttl(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn shown_in_two_units_at_most() {
        assert_eq!(show_seconds(0), "0 s");
        assert_eq!(show_seconds(90), "1 min 30 s");
        assert_eq!(show_seconds(86_400 + 3_600 + 60), "1 d 1 h");
        assert_eq!(show_seconds(300), "5 min");
    }
}
