//! `$GENERATE`, BIND's way to write many records in one line: `$GENERATE 1-20/2 host$ A 192.0.2.$`.

/// No zone in use comes near this many in one line; a hostile one might.
const MOST_VALUES: u64 = 100_000;

/// What BIND has room for.
const MOST_WIDTH: usize = 127;

/// `START-STOP` or `START-STOP/STEP`.
pub(super) struct Range {
    start: u32,
    stop: u32,
    step: u32,
}

impl Range {
    pub fn parse(text: &str) -> Result<Self, String> {
        let wrong = || format!("`{text}` is not a range as 1-20 or 1-20/2");
        let (ends, step) = text.split_once('/').unwrap_or((text, "1"));
        let (start, stop) = ends.split_once('-').ok_or_else(wrong)?;
        let number = |text: &str| text.parse::<u32>().ok().filter(|n| *n <= 0x7fff_ffff).ok_or_else(wrong);
        let range = Self { start: number(start)?, stop: number(stop)?, step: number(step)? };
        if range.step == 0 || range.start > range.stop {
            return Err(wrong());
        }
        if u64::from(range.stop - range.start) / u64::from(range.step) >= MOST_VALUES {
            return Err(format!("`{text}` stands for more than {MOST_VALUES} records"));
        }
        Ok(range)
    }

    pub fn values(&self) -> impl Iterator<Item = u32> {
        (self.start..=self.stop).step_by(self.step as usize)
    }
}

/// Puts the value into a pattern: `$` for itself, `${OFFSET,WIDTH,BASE}` with base `d`, `o`, `x`, `X`, `n` or `N`; what is
/// below zero has a sign in base `d`, and is counted from the end of 32 bits in others. Also
/// `$$` or `\$` for a dollar sign.
pub(super) fn fill(pattern: &str, value: u32) -> Result<String, String> {
    let mut text = String::with_capacity(pattern.len() + 8);
    let mut rest = pattern;
    while let Some(at) = rest.find(['$', '\\']) {
        text.push_str(&rest[..at]);
        rest = &rest[at..];
        if let Some(after) = rest.strip_prefix('\\') {
            let kept = after.chars().next().map_or(0, char::len_utf8);
            let escaped = &rest[..1 + kept];
            text.push_str(if escaped == "\\$" { "$" } else { escaped });
            rest = &rest[1 + kept..];
        } else if let Some(after) = rest.strip_prefix("$$") {
            text.push('$');
            rest = after;
        } else if let Some(after) = rest.strip_prefix("${") {
            let (form, after) = after.split_once('}').ok_or("`${` without `}`")?;
            text.push_str(&formatted(form, value)?);
            rest = after;
        } else {
            text.push_str(&value.to_string());
            rest = &rest[1..];
        }
    }
    text.push_str(rest);
    Ok(text)
}

fn formatted(form: &str, value: u32) -> Result<String, String> {
    let wrong = || format!("`${{{form}}}` is not an offset, a width and a base, as in ${{0,3,d}}");
    let mut parts = form.split(',');
    let offset: i32 = parts.next().unwrap_or_default().parse().map_err(|_| wrong())?;
    let width: usize = parts.next().unwrap_or("0").parse().map_err(|_| wrong())?;
    let base = parts.next().unwrap_or("d");
    if parts.next().is_some() || width > MOST_WIDTH {
        return Err(wrong());
    }
    let value = i32::try_from(i64::from(value) + i64::from(offset)).map_err(|_| wrong())?;
    Ok(match base {
        "d" => format!("{value:0width$}"),
        "o" => format!("{value:0width$o}"),
        "x" => format!("{value:0width$x}"),
        "X" => format!("{value:0width$X}"),
        "n" | "N" => nibbles(value as u32, width, base == "N"),
        _ => return Err(wrong()),
    })
}

/// Hexadecimal digits from the lowest, with dots between, as reverse zones of IPv6 need them; an even width ends with a dot.
fn nibbles(mut value: u32, width: usize, upper: bool) -> String {
    let mut text = String::new();
    loop {
        let digit = char::from_digit(value & 15, 16).unwrap_or('0');
        text.push(if upper { digit.to_ascii_uppercase() } else { digit });
        value >>= 4;
        if value != 0 || text.len() < width {
            text.push('.');
        }
        if value == 0 && text.len() >= width {
            return text;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_and_patterns() {
        assert_eq!(Range::parse("1-7/3").unwrap().values().collect::<Vec<_>>(), [1, 4, 7]);
        for wrong in ["1", "7-1", "1-5/0", "a-b", "0-4294967295"] {
            assert!(Range::parse(wrong).is_err(), "{wrong}");
        }
        assert_eq!(fill("berth$", 7).unwrap(), "berth7");
        assert_eq!(fill("b${10,4,d}.$", 7).unwrap(), "b0017.7");
        assert_eq!(fill("x${0,2,x}\\$$$", 255).unwrap(), "xff$$");
        assert_eq!(fill("${0,7,n}", 0x1a2).unwrap(), "2.a.1.0");
        assert_eq!(fill("${0,2,n}x", 7).unwrap(), "7.x");
        assert_eq!(fill("${-9} ${-9,4} ${-9,0,x} ${-9,0,n}", 1).unwrap(), "-8 -008 fffffff8 8.f.f.f.f.f.f.f");
        for wrong in ["${0", "${0,1,z}", "${2147483647}", "${0,128}", "${}"] {
            assert!(fill(wrong, 1).is_err(), "{wrong}");
        }
    }
}
