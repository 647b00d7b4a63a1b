//! Reads a large master file from its beginning and from its middle at once. What a line means depends on those before it, so
//! this is done only where it can be seen that nothing is inherited across the middle: a default TTL and the start of
//! authority are known, no directive follows, and the middle is a line with an owner of its own. Whether it is the middle of
//! parentheses shows when the first half has been read up to it; then the rest is read once more, in order.
//!
//! What lines mean is `parse`'s alone.

use super::document::{Entry, Item};
use super::error::ZoneError;
use super::parse::{Parser, Start, newlines};

/// From so many bytes on, a second thread is worth its start.
const LARGE: usize = 1 << 20;
/// Directives stand at the top.
const HEAD: usize = 1 << 12;

/// Reads a master file, whatever its size.
pub(super) fn parse(parser: &mut Parser<'_, '_>, source: &[u8]) -> Result<Vec<Entry>, ZoneError> {
    if source.len() < LARGE { parser.parse(source) } else { parse_halves(parser, source, HEAD) }
}

fn parse_halves(parser: &mut Parser<'_, '_>, source: &[u8], head: usize) -> Result<Vec<Entry>, ZoneError> {
    let mut entries = Vec::new();
    let mut start = Start { at: 0, line: 1 };
    parser.remember_targets();
    parser.parse_lines(source, &mut start, head, &mut |entry| entries.push(entry))?;
    let Some((middle, inherited)) = middle(source, start.at).zip(parser.inherited()) else {
        entries.reserve(newlines(&source[start.at..]) + 1);
        parser.parse_lines(source, &mut start, source.len(), &mut |entry| entries.push(entry))?;
        return Ok(entries);
    };
    // Room for all of them at once, so that no half is copied behind the other.
    let (before, first_lines) = (entries.len(), newlines(&source[start.at..middle]));
    let empty = || Entry::new(&(0..0), 0, Item::DefaultTtl(0));
    entries.resize_with(before + first_lines + newlines(&source[middle..]) + 1, empty);
    let (one, two) = entries[before..].split_at_mut(first_lines);
    let (mut kept_one, mut kept_two) = (0, 0);
    let middle_line = start.line + first_lines;
    let (first, second) = std::thread::scope(|scope| {
        let second = scope.spawn(|| {
            let (mut parser, mut start) = (Parser::further_down(inherited), Start { at: middle, line: middle_line });
            parser.remember_targets();
            let read =
                parser.parse_lines(source, &mut start, source.len(), &mut |entry| put(two, &mut kept_two, entry));
            read.map(|()| parser.repeated_serials())
        });
        let first = parser.parse_lines(source, &mut start, middle, &mut |entry| put(one, &mut kept_one, entry));
        (first, second.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
    });
    first?;
    let first_end = before + kept_one;
    if start.at != middle {
        entries.truncate(first_end);
        parser.parse_lines(source, &mut start, source.len(), &mut |entry| entries.push(entry))?;
        return Ok(entries);
    }
    parser.more_serials(second?);
    // Comments and blank lines have no entry.
    entries.truncate(before + first_lines + kept_two);
    entries.drain(first_end..before + first_lines);
    Ok(entries)
}

fn put(room: &mut [Entry], kept: &mut usize, entry: Entry) {
    room[*kept] = entry;
    *kept += 1;
}

/// A line near the middle of what follows `from` that names its owner, if nothing that follows changes what lines inherit.
fn middle(source: &[u8], from: usize) -> Option<usize> {
    let rest = &source[from..];
    // A carriage return may end a line alone, and lines are counted by their newlines here.
    let has_directive = rest.first() == Some(&b'$') || memchr::memmem::find(rest, b"\n$").is_some();
    if has_directive || memchr::memchr(b'\r', rest).is_some() {
        return None;
    }
    let begins_a_line = |at: usize| !matches!(source[at], b' ' | b'\t' | b'\n' | b';' | b'(' | b')' | b'"');
    let ends = memchr::memchr_iter(b'\n', &rest[rest.len() / 2..]).map(|end| from + rest.len() / 2 + end + 1);
    ends.take_while(|at| *at < source.len()).find(|at| begins_a_line(*at))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::DnsName;

    const TOP: &str = "$TTL 300\n@ SOA ns1 host 1 2 3 4 5\n@ NS ns1\nns1 A 192.0.2.1\n";

    /// What both ways make of a file; the second one begins to look for the middle behind the top.
    fn both(source: &str) -> [String; 2] {
        let zone = DnsName::absolute("gullrock.example").unwrap();
        let told = |halves: bool| {
            let mut parser = Parser::new(&zone, None);
            let entries = match halves {
                true => parse_halves(&mut parser, source.as_bytes(), TOP.len()),
                false => parser.parse(source.as_bytes()),
            };
            format!("{entries:?} {:?}", parser.finish(source.as_bytes()).map(|(_, places)| places))
        };
        [told(false), told(true)]
    }

    #[test]
    fn from_both_ends_a_file_says_the_same() {
        let lines = |line: &str| line.repeat(40);
        for (what, rest, in_halves) in [
            ("records", lines("www A 192.0.2.7\n"), true),
            ("comments, blank lines, owners left out", lines("; tide\n\nwww A 192.0.2.7\n\tAAAA 2001:db8::1\n"), true),
            ("parentheses over lines", lines("www TXT (\n\"a\"\nb\n) ; end\n"), true),
            ("the start of authority once more", lines("www A 192.0.2.7\n@ SOA ns1 host 1 2 3 4 5\n"), true),
            ("outside of the zone", lines("lantern.example. A 192.0.2.7\n"), true),
            ("no end of the last line", lines("www A 192.0.2.7\n") + "www A 192.0.2.8", true),
            (
                "a new default",
                lines("www A 192.0.2.7\n") + "$TTL 7\n" + &lines("www 9 A 192.0.2.7\nx A 192.0.2.8\n"),
                false,
            ),
            ("carriage returns", lines("www A 192.0.2.7\r\n"), false),
            ("an error in the first half", "www A 192.0.2\n".to_string() + &lines("www A 192.0.2.7\n"), true),
            ("an error in the second half", lines("www A 192.0.2.7\n") + "www A 192.0.2\n", true),
            ("errors in both", "x A 1\n".to_string() + &lines("www A 192.0.2.7\n") + "y A 2\n", true),
            ("never closed", lines("www A 192.0.2.7\n") + "www TXT (\n" + &lines("a\n"), true),
            ("a second start of authority", lines("www A 192.0.2.7\n") + "@ SOA ns1 host 2 2 3 4 5\n", true),
            ("nothing", String::new(), false),
        ] {
            let source = format!("{TOP}{rest}");
            assert_eq!(middle(source.as_bytes(), TOP.len()).is_some(), in_halves, "{what}");
            let [whole, halves] = both(&source);
            assert_eq!(whole, halves, "{what}");
        }
        // One record over all of the middle: the line found there is none, and its half is not believed.
        let within = format!("{TOP}www TXT ( {}\n)\nend A 192.0.2.9\n", "a\n".repeat(200));
        let [whole, halves] = both(&within);
        assert!(
            middle(within.as_bytes(), TOP.len()).is_some() && whole == halves && whole.contains("192.0.2.9"),
            "{halves}"
        );
        // Without a default, a line may take its TTL from the one before.
        let without = format!("{}{}", TOP.replace("$TTL 300\n@", "@ 7"), "www A 192.0.2.7\n".repeat(40));
        let [whole, halves] = both(&without);
        assert_eq!(whole, halves);
    }
}
