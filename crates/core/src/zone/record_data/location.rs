//! A position on earth (LOC, RFC 1876): degrees, minutes, seconds, and metres, kept in the units of the wire form.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::DataToken;

/// The wire form: angles in thousandths of an arc second from 2^31, altitude in centimetres from 100 km below.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Location {
    /// Mantissa and power of ten, four bits each, in centimetres.
    size: u8,
    horizontal: u8,
    vertical: u8,
    latitude: u32,
    longitude: u32,
    altitude: u32,
}

const EQUATOR: i64 = 1 << 31;
const REFERENCE: i64 = 10_000_000;

impl Location {
    /// Reads `d1 [m1 [s1]] N|S d2 [m2 [s2]] E|W alt[m] [size[m] [hp[m] [vp[m]]]]`.
    pub(super) fn parse(tokens: &[DataToken<'_>]) -> Result<Self, String> {
        let mut words = tokens.iter().map(|token| token.text.as_ref()).peekable();
        let latitude = angle(&mut words, ["N", "S"], 90)?;
        let longitude = angle(&mut words, ["E", "W"], 180)?;
        let altitude = words.next().ok_or("the altitude is missing")?;
        let altitude = centimetres(altitude)? + REFERENCE;
        let altitude = u32::try_from(altitude).map_err(|_| "the altitude is out of range".to_string())?;
        let mut precision = |default: u8| words.next().map_or(Ok(default), power_of_ten);
        // RFC 1876 section 3: 1 m, 10 km, 10 m.
        let (size, horizontal, vertical) = (precision(0x12)?, precision(0x16)?, precision(0x13)?);
        match words.next() {
            None => Ok(Self { size, horizontal, vertical, latitude, longitude, altitude }),
            Some(word) => Err(format!("`{word}` is one value too many")),
        }
    }

    pub(super) fn to_wire(&self) -> Vec<u8> {
        let mut wire = vec![0, self.size, self.horizontal, self.vertical];
        wire.extend([self.latitude, self.longitude, self.altitude].into_iter().flat_map(u32::to_be_bytes));
        wire
    }

    pub(super) fn from_wire(wire: &[u8]) -> Option<Self> {
        let [0, size, horizontal, vertical, rest @ ..] = wire else { return None };
        let [a, b, c] = [0, 4, 8].map(|at| rest.get(at..at + 4)?.try_into().ok().map(u32::from_be_bytes));
        (rest.len() == 12).then_some(())?;
        let (size, horizontal, vertical) = (*size, *horizontal, *vertical);
        Some(Self { size, horizontal, vertical, latitude: a?, longitude: b?, altitude: c? })
    }
}

fn angle<'a>(
    words: &mut std::iter::Peekable<impl Iterator<Item = &'a str>>,
    [plus, minus]: [&str; 2],
    most: i64,
) -> Result<u32, String> {
    let mut total: i64 = 0;
    for (index, thousandths) in [3_600_000, 60_000, 1_000].into_iter().enumerate() {
        let Some(word) = words.peek() else { break };
        if index > 0 && (word.eq_ignore_ascii_case(plus) || word.eq_ignore_ascii_case(minus)) {
            break;
        }
        let word = words.next().unwrap_or_default();
        let value = if index == 2 { decimal(word, 3)? } else { decimal(word, 0)? * 1_000 };
        let limit = if index == 0 { most * 1_000 } else { 59_999 };
        if !(0..=limit).contains(&value) {
            return Err(format!("`{word}` is out of range"));
        }
        total += value * thousandths / 1_000;
    }
    let sign = match words.next() {
        Some(word) if word.eq_ignore_ascii_case(plus) => 1,
        Some(word) if word.eq_ignore_ascii_case(minus) => -1,
        _ => return Err(format!("{plus} or {minus} is missing behind the degrees")),
    };
    if total > most * 3_600_000 {
        return Err(format!("more than {most} degrees"));
    }
    u32::try_from(EQUATOR + sign * total).map_err(|_| "out of range".into())
}

fn centimetres(word: &str) -> Result<i64, String> {
    decimal(word.strip_suffix(['m', 'M']).unwrap_or(word), 2)
}

/// A decimal number with at most `places` digits behind the point, times ten to that power.
fn decimal(word: &str, places: u32) -> Result<i64, String> {
    let wrong = || format!("`{word}` is not a number with at most {places} places");
    let (negative, digits) = match word.strip_prefix('-') {
        Some(rest) => (true, rest),
        None => (false, word),
    };
    let (whole, part) = digits.split_once('.').unwrap_or((digits, ""));
    let sound = |text: &str| text.bytes().all(|byte| byte.is_ascii_digit()) && text.len() <= 9;
    if whole.is_empty() || !sound(whole) || !sound(part) || part.len() > places as usize {
        return Err(wrong());
    }
    let mut value: i64 = whole.parse().map_err(|_| wrong())?;
    for place in 0..places as usize {
        value = value * 10 + i64::from(part.as_bytes().get(place).map_or(0, |digit| digit - b'0'));
    }
    Ok(if negative { -value } else { value })
}

fn power_of_ten(word: &str) -> Result<u8, String> {
    let mut value = centimetres(word)?;
    if !(0..=9_000_000_000).contains(&value) {
        return Err(format!("`{word}` is out of range (0 to 90000000 m)"));
    }
    let mut exponent = 0;
    while value > 9 {
        value /= 10;
        exponent += 1;
    }
    Ok((value as u8) << 4 | exponent)
}

fn write_angle(f: &mut fmt::Formatter<'_>, value: u32, [plus, minus]: [&str; 2]) -> fmt::Result {
    let from_zero = i64::from(value) - EQUATOR;
    let sign = if from_zero < 0 { minus } else { plus };
    let total = from_zero.abs();
    let (degrees, minutes) = (total / 3_600_000, total / 60_000 % 60);
    write!(f, "{degrees} {minutes} {}.{:03} {sign} ", total / 1_000 % 60, total % 1_000)
}

fn write_metres(f: &mut fmt::Formatter<'_>, centimetres: i64) -> fmt::Result {
    let sign = if centimetres < 0 { "-" } else { "" };
    write!(f, "{sign}{}.{:02}m", centimetres.abs() / 100, centimetres.abs() % 100)
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write_angle(f, self.latitude, ["N", "S"])?;
        write_angle(f, self.longitude, ["E", "W"])?;
        write_metres(f, i64::from(self.altitude) - REFERENCE)?;
        for precision in [self.size, self.horizontal, self.vertical] {
            f.write_str(" ")?;
            write_metres(f, i64::from(precision >> 4) * 10_i64.pow(u32::from(precision & 15)))?;
        }
        Ok(())
    }
}
