//! The small forms that record data is made of: character strings, hexadecimal, base64 and base32hex.

use std::fmt;

use super::DataToken;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;

/// Takes the escapes out of a character string (RFC 1035 section 5.1).
pub(super) fn unescape(text: &str) -> Result<Vec<u8>, String> {
    let bytes = text.as_bytes();
    let mut string = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while at < bytes.len() {
        match (bytes[at], bytes.get(at + 1)) {
            (b'\\', Some(digit)) if digit.is_ascii_digit() => {
                let value = text.get(at + 1..at + 4).and_then(|digits| digits.parse::<u8>().ok());
                string.push(value.ok_or("an escape `\\DDD` needs three digits up to 255")?);
                at += 4;
            }
            (b'\\', Some(byte)) => {
                string.push(*byte);
                at += 2;
            }
            (b'\\', None) => return Err("a backslash at the end escapes nothing".into()),
            (byte, _) => {
                string.push(byte);
                at += 1;
            }
        }
    }
    Ok(string)
}

/// The same, for strings of at most 255 bytes.
pub(super) fn character_string(text: &str) -> Result<Vec<u8>, String> {
    let string = unescape(text)?;
    match string.len() {
        0..=255 => Ok(string),
        length => Err(format!("a string of {length} bytes; 255 are allowed, split it in two")),
    }
}

/// Writes a string in quotes.
pub(super) fn write_quoted(f: &mut fmt::Formatter<'_>, string: &[u8]) -> fmt::Result {
    f.write_str("\"")?;
    for &byte in string {
        match byte {
            b'"' | b'\\' => write!(f, "\\{}", byte as char)?,
            0x20..=0x7e => write!(f, "{}", byte as char)?,
            _ => write!(f, "\\{byte:03}")?,
        }
    }
    f.write_str("\"")
}

pub(super) fn hex(text: &str) -> Result<Vec<u8>, String> {
    let digit = |byte: u8| (byte as char).to_digit(16).map(|value| value as u8);
    let pairs = text.as_bytes().chunks(2);
    let bytes: Option<Vec<u8>> = pairs
        .map(|pair| match pair {
            [high, low] => Some(digit(*high)? << 4 | digit(*low)?),
            _ => None,
        })
        .collect();
    bytes.ok_or_else(|| format!("`{}` is not hexadecimal with two digits a byte", shortened(text)))
}

pub(super) fn write_hex(f: &mut fmt::Formatter<'_>, bytes: &[u8]) -> fmt::Result {
    bytes.iter().try_for_each(|byte| write!(f, "{byte:02X}"))
}

pub(super) fn base64(text: &str) -> Result<Vec<u8>, String> {
    STANDARD.decode(text).map_err(|_| format!("`{}` is not base64", shortened(text)))
}

pub(super) fn write_base64(f: &mut fmt::Formatter<'_>, bytes: &[u8]) -> fmt::Result {
    f.write_str(&STANDARD.encode(bytes))
}

const BASE32_HEX: &[u8; 32] = b"0123456789ABCDEFGHIJKLMNOPQRSTUV";

/// Base32 with the extended hex alphabet, without padding (RFC 5155 section 3.3).
pub(crate) fn base32_hex(text: &str) -> Result<Vec<u8>, String> {
    let wrong = || format!("`{}` is not base32hex", shortened(text));
    let (mut bytes, mut bits, mut held) = (Vec::new(), 0_u32, 0_u32);
    for byte in text.bytes() {
        let value = BASE32_HEX.iter().position(|letter| *letter == byte.to_ascii_uppercase()).ok_or_else(wrong)?;
        held = held << 5 | value as u32;
        bits += 5;
        if bits >= 8 {
            bits -= 8;
            bytes.push((held >> bits) as u8);
            held &= (1 << bits) - 1;
        }
    }
    if held == 0 { Ok(bytes) } else { Err(wrong()) }
}

pub(super) fn write_base32_hex(f: &mut fmt::Formatter<'_>, bytes: &[u8]) -> fmt::Result {
    for chunk in bytes.chunks(5) {
        let mut block = [0; 8];
        block[..chunk.len()].copy_from_slice(chunk);
        let value = u64::from_be_bytes([0, 0, 0, block[0], block[1], block[2], block[3], block[4]]);
        for letter in 0..(chunk.len() * 8).div_ceil(5) {
            let index = (value >> (35 - 5 * letter)) & 31;
            write!(f, "{}", BASE32_HEX[index as usize] as char)?;
        }
    }
    Ok(())
}

/// Tokens as they stand in a file, in one line.
pub(super) fn verbatim(tokens: &[DataToken<'_>]) -> String {
    let word = |token: &DataToken<'_>| match token.quoted {
        true => format!("\"{}\"", token.text),
        false => token.text.to_string(),
    };
    tokens.iter().map(word).collect::<Vec<_>>().join(" ")
}

/// Bounds what an error repeats of the input.
pub(super) fn shortened(text: &str) -> String {
    if text.chars().count() <= 40 { text.to_string() } else { text.chars().take(37).chain("...".chars()).collect() }
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Shown(Vec<u8>, fn(&mut fmt::Formatter<'_>, &[u8]) -> fmt::Result);

    impl fmt::Display for Shown {
        fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            self.1(f, &self.0)
        }
    }

    #[test]
    fn each_form_is_read_and_written() {
        assert_eq!(Shown(hex("c0fFee").unwrap(), write_hex).to_string(), "C0FFEE");
        assert_eq!(Shown(base64("c2FsdA==").unwrap(), write_base64).to_string(), "c2FsdA==");
        let hash = "2T7B4G4VSA5SMI47K61MV5BV1A22BOJR";
        assert_eq!(Shown(base32_hex(hash).unwrap(), write_base32_hex).to_string(), hash);
        assert_eq!(Shown(unescape("a\\\"b\\200").unwrap(), write_quoted).to_string(), "\"a\\\"b\\200\"");
    }

    #[test]
    fn what_is_not_of_the_form_is_told() {
        for wrong in ["c0f", "zz", "ä"] {
            assert!(hex(wrong).is_err(), "{wrong}");
        }
        assert!(base64("c2Fsd").is_err() && base32_hex("W").is_err());
        assert!(unescape("a\\99").is_err() && unescape("a\\256").is_err() && unescape("a\\").is_err());
        assert!(character_string(&"a".repeat(256)).unwrap_err().contains("256 bytes"));
    }
}
