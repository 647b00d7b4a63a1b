//! The expression by which a NAPTR record rewrites what was asked for: `!^.*$!sip:info@gullrock.example!i` (RFC 3402 section
//! 3.2). Whether it is one, as servers check it when they load a zone; nothing is rewritten here.

use regex::bytes::Regex;

/// The error says what is wrong; nothing at all is an expression, too: no rewriting.
pub(super) fn check(text: &[u8]) -> Result<(), String> {
    let Some((delimiter, rest)) = text.split_first() else { return Ok(()) };
    if text.contains(&0) {
        return Err("a zero byte cannot stand in an expression".into());
    }
    if delimiter.is_ascii_digit() || matches!(delimiter, b'\\' | b'i') {
        return Err(format!("`{}` cannot stand around the parts of an expression", char::from(*delimiter)));
    }
    let [pattern, replacement, flags] = &parts(rest, *delimiter)?[..] else {
        return Err("an expression has a pattern, a replacement, and flags, with the same character around each".into());
    };
    if let Some(flag) = flags.iter().find(|flag| **flag != b'i') {
        return Err(format!("`{}` is no flag of an expression; `i` is the only one", char::from(*flag)));
    }
    let groups = groups(pattern)?;
    match highest_group(replacement)? {
        used if used > groups => Err(format!("the replacement has `\\{used}`, and the pattern {groups} groups")),
        _ => Ok(()),
    }
}

/// Cut where the delimiter stands; one behind a backslash is a character as others.
fn parts(text: &[u8], delimiter: u8) -> Result<Vec<Vec<u8>>, String> {
    let mut parts = vec![Vec::new()];
    let mut bytes = text.iter();
    while let Some(&byte) = bytes.next() {
        let part = parts.last_mut().expect("never empty");
        if byte == delimiter {
            parts.push(Vec::new());
        } else if byte == b'\\' {
            let escaped = bytes.next().ok_or("a backslash stands at the end")?;
            part.extend([byte, *escaped]);
        } else {
            part.push(byte);
        }
    }
    Ok(parts)
}

/// How many groups the pattern has. Extended regular expressions (POSIX.2) that this library reads otherwise are few, and
/// servers read them as they like.
fn groups(pattern: &[u8]) -> Result<usize, String> {
    let pattern = String::from_utf8_lossy(pattern);
    match Regex::new(&pattern) {
        Ok(regex) => Ok(regex.captures_len() - 1),
        Err(_) => Err(format!("`{}` is not a regular expression", super::text::shortened(&pattern))),
    }
}

/// `\1` to `\9` stand for what a group found; `\0` for nothing.
fn highest_group(replacement: &[u8]) -> Result<usize, String> {
    let mut highest = 0;
    let mut bytes = replacement.iter();
    while let Some(byte) = bytes.next() {
        if *byte != b'\\' {
            continue;
        }
        match bytes.next() {
            Some(b'0') => return Err("`\\0` names no group".into()),
            Some(digit @ b'1'..=b'9') => highest = highest.max(usize::from(digit - b'0')),
            _ => {}
        }
    }
    Ok(highest)
}

#[cfg(test)]
mod tests {
    use super::check;

    #[test]
    fn expressions_have_three_parts_and_name_groups_that_are_there() {
        for right in ["", "!^.*$!sip:info@gullrock.example!", "!^(.*)$!mail:\\1!i", "/a\\/b/c/", "!(a)(b)!\\2\\1!ii"] {
            assert_eq!(check(right.as_bytes()), Ok(()), "{right}");
        }
        for (wrong, words) in [
            ("!", "has a pattern"),
            ("!a!b", "has a pattern"),
            ("!a!b!!", "has a pattern"),
            ("1a1b1", "cannot stand around"),
            ("iaibi", "cannot stand around"),
            ("!a!b!g", "no flag"),
            ("!(!b!", "not a regular expression"),
            ("!a!\\1!", "`\\1`, and the pattern 0 groups"),
            ("!(a)!\\0!", "names no group"),
            ("!a!b\\", "at the end"),
            ("!a\0!b!", "zero byte"),
        ] {
            let why = check(wrong.as_bytes()).unwrap_err();
            assert!(why.contains(words), "{wrong}: {why}");
        }
    }
}
