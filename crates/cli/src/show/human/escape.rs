//! Makes text of strangers harmless: what is read from zones, certificates, servers and file names may hold control
//! characters, which a terminal obeys. Everything printed for people goes through here; only our own styles do not. JSON is
//! read at terminals as well.

use std::borrow::Cow;
use std::fmt::Write;

/// The text with control characters (C0, C1, DEL), line and paragraph separators, and the controls that turn the direction
/// of text (Unicode Standard Annex 9) written out: `\x1b`, `\u{202e}`. A tab moves nothing but the cursor, and stays.
pub fn harmless(text: &str) -> Cow<'_, str> {
    if !text.contains(is_harmful) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 8);
    for character in text.chars() {
        match character {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            c if is_harmful(c) && c.is_ascii() => drop(write!(out, "\\x{:02x}", c as u32)),
            c if is_harmful(c) => drop(write!(out, "\\u{{{:x}}}", c as u32)),
            c => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// The text for a string of JSON, with the same characters written as `\uXXXX`, which says the same (RFC 8259, section 7).
pub fn harmless_json(text: &str) -> Cow<'_, str> {
    if !text.contains(is_harmful) {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len() + 8);
    for character in text.chars() {
        match is_harmful(character) {
            true => drop(write!(out, "\\u{:04x}", character as u32)),
            false => out.push(character),
        }
    }
    Cow::Owned(out)
}

fn is_harmful(character: char) -> bool {
    let turns = matches!(character,
        '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
    let separates = matches!(character, '\u{2028}' | '\u{2029}' | '\u{feff}');
    (character.is_control() && character != '\t') || turns || separates
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_terminal_would_obey_is_written_out_and_all_else_stays() {
        assert_eq!(harmless("\x1b]0;title\x07\x1b[8mhidden"), "\\x1b]0;title\\x07\\x1b[8mhidden");
        assert_eq!(harmless("one\r\ntwo\x7f"), "one\\r\\ntwo\\x7f");
        assert_eq!(harmless("\u{9b}2J\u{202e}txt.exe\u{2066}\u{2028}"), "\\u{9b}2J\\u{202e}txt.exe\\u{2066}\\u{2028}");
        for plain in ["", "a\tb", "bäckerei.example → 192.0.2.10", "数据", "👩‍🌾"] {
            assert!(matches!(harmless(plain), Cow::Borrowed(same) if same == plain), "{plain}");
        }
    }

    #[test]
    fn strings_of_json_say_the_same() {
        assert_eq!(harmless_json("\u{9b}31m\u{202e}bäckerei 👩‍🌾\x7f"), "\\u009b31m\\u202ebäckerei 👩‍🌾\\u007f");
        assert!(matches!(harmless_json("tide"), Cow::Borrowed("tide")));
    }
}
