//! A unified diff of two large texts that differ in a few places: one walk over both, no tables of lines.
//!
//! Where the places are not few and small it gives up, and the general algorithm is taken.

use std::ops::Range;

/// How far a difference may reach before the texts go on alike.
const REACH: usize = 64;
const CONTEXT: usize = 2;

/// A place in a text, at the beginning of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Place {
    byte: usize,
    /// From 0.
    line: usize,
}

/// Lines that differ: where they are in both texts.
struct Difference {
    old: Range<Place>,
    new: Range<Place>,
}

/// The hunks, without a header; `None` if the texts differ too much for this way.
pub fn sparse_diff(before: &[u8], after: &[u8]) -> Option<String> {
    let differences = differences(before, after)?;
    let mut text = String::new();
    let mut rest = &differences[..];
    while let Some(first) = rest.first() {
        // Differences whose contexts touch share a hunk.
        let mut count = 1;
        while count < rest.len() && rest[count].old.start.line <= rest[count - 1].old.end.line + 2 * CONTEXT {
            count += 1;
        }
        let (hunk, more) = rest.split_at(count);
        let last = hunk.last().unwrap_or(first);
        let (from, to) = (back(before, first.old.start), forth(before, last.old.end));
        let lead = first.old.start.line - from.line;
        let lines =
            (to.line - from.line, last.new.end.line + (to.line - last.old.end.line) + lead - first.new.start.line);
        let (old, new) = (range(from.line, lines.0), range(first.new.start.line - lead, lines.1));
        text.push_str(&format!("@@ -{old} +{new} @@\n"));
        let mut at = from.byte;
        for difference in hunk {
            push(&mut text, ' ', &before[at..difference.old.start.byte]);
            push(&mut text, '-', &before[difference.old.start.byte..difference.old.end.byte]);
            push(&mut text, '+', &after[difference.new.start.byte..difference.new.end.byte]);
            at = difference.old.end.byte;
        }
        push(&mut text, ' ', &before[at..to.byte]);
        rest = more;
    }
    Some(text)
}

/// The lines of context before a place.
fn back(text: &[u8], place: Place) -> Place {
    (0..CONTEXT).fold(place, |place, _| match place.byte.checked_sub(1) {
        Some(end) => {
            let byte = memchr::memrchr(b'\n', &text[..end]).map_or(0, |at| at + 1);
            Place { byte, line: place.line - 1 }
        }
        None => place,
    })
}

/// The lines of context behind a place.
fn forth(text: &[u8], place: Place) -> Place {
    lines_of(&text[place.byte..]).take(CONTEXT).fold(place, beyond)
}

fn beyond(place: Place, line: &[u8]) -> Place {
    Place { byte: place.byte + line.len(), line: place.line + 1 }
}

fn range(start: usize, length: usize) -> String {
    match length {
        0 => format!("{start},0"),
        1 => format!("{}", start + 1),
        length => format!("{},{length}", start + 1),
    }
}

fn lines_of(text: &[u8]) -> impl Iterator<Item = &[u8]> {
    text.split_inclusive(|byte| *byte == b'\n')
}

fn push(text: &mut String, mark: char, lines: &[u8]) {
    for line in lines_of(lines) {
        text.push(mark);
        text.push_str(&String::from_utf8_lossy(line));
        if !line.ends_with(b"\n") {
            text.push('\n');
        }
    }
}

fn differences(before: &[u8], after: &[u8]) -> Option<Vec<Difference>> {
    let (mut one, mut other) = (Place { byte: 0, line: 0 }, Place { byte: 0, line: 0 });
    let mut found = Vec::new();
    loop {
        let (old, new) = (&before[one.byte..], &after[other.byte..]);
        let (bytes, lines) = alike(old, new);
        (one, other) = (further(one, bytes, lines), further(other, bytes, lines));
        let (old, new) = (&before[one.byte..], &after[other.byte..]);
        if old.is_empty() && new.is_empty() {
            return Some(found);
        }
        // The nearest place where both go on alike, for two lines or to the end.
        let [old, new] = [old, new].map(|rest| lines_of(rest).take(REACH + 2).collect::<Vec<_>>());
        let goes_on = |a: usize, b: usize| {
            let end = a == old.len() && b == new.len() && old.len().max(new.len()) < REACH + 2;
            end || (a < old.len() && b < new.len() && old[a] == new[b] && old.get(a + 1) == new.get(b + 1))
        };
        let (a, b) = (0..=REACH)
            .flat_map(|sum| (0..=sum).map(move |skip| (skip, sum - skip)))
            .find(|&(a, b)| a <= old.len() && b <= new.len() && goes_on(a, b))?;
        let end = |place: Place, lines: &[&[u8]]| lines.iter().fold(place, |place, line| beyond(place, line));
        let (old_end, new_end) = (end(one, &old[..a]), end(other, &new[..b]));
        found.push(Difference { old: one..old_end, new: other..new_end });
        (one, other) = (old_end, new_end);
    }
}

fn further(place: Place, bytes: usize, lines: usize) -> Place {
    Place { byte: place.byte + bytes, line: place.line + lines }
}

/// With how many whole lines both begin, in bytes and in lines.
fn alike(one: &[u8], other: &[u8]) -> (usize, usize) {
    // Large pieces first: to compare them is a matter of their size alone.
    const PIECE: usize = 1 << 12;
    let pieces = one.chunks_exact(PIECE).zip(other.chunks_exact(PIECE)).take_while(|(one, other)| one == other);
    let start = PIECE * pieces.count();
    let same = one[start..].iter().zip(&other[start..]).take_while(|(one, other)| one == other).count();
    let bytes = start + same;
    // The last line may go on, or end, in one of them alone.
    let whole = bytes == one.len() && bytes == other.len();
    let bytes = if whole { bytes } else { memchr::memrchr(b'\n', &one[..bytes]).map_or(0, |at| at + 1) };
    let lines = memchr::memchr_iter(b'\n', &one[..bytes]).count();
    (bytes, lines + usize::from(whole && !one.is_empty() && !one.ends_with(b"\n")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use similar::TextDiff;

    fn general(before: &str, after: &str) -> String {
        let text = TextDiff::from_lines(before, after).unified_diff().context_radius(CONTEXT).to_string();
        text.replace("\\ No newline at end of file\n", "")
    }

    #[test]
    fn it_says_what_the_general_way_says() {
        let many: String = (0..200).map(|number| format!("line {number}\n")).collect();
        let cases = [
            (many.clone(), many.replace("line 7\n", "seven\n") + "behind\n"),
            (many.clone(), many.replace("line 0\n", "")),
            (many.clone(), many.replace("line 199\n", "")),
            (many.clone(), many.replace("line 50\n", "line 50\nmore\n").replace("line 53\n", "53\n")),
            (many.clone(), format!("first\n{many}")),
            ("a\nb".to_string(), "a\nc".to_string()),
            (String::new(), "a\n".to_string()),
            (many.clone(), many.clone()),
            (many.clone(), many.replace("line 7\n", "line 7\nline 7\n")),
            (many.clone(), many.replace("line 199\n", "line 199")),
            ("a\n".repeat(30), "a\n".repeat(31)),
            ("a\n".repeat(31), "a\n".repeat(30)),
            (many.replace("line 8\n", "tide\n"), many.replace("line 190\n", "tide\n")),
        ];
        for (before, after) in cases {
            assert_eq!(sparse_diff(before.as_bytes(), after.as_bytes()).unwrap(), general(&before, &after));
        }
    }

    #[test]
    fn bytes_that_are_no_text_are_shown_as_such() {
        assert_eq!(sparse_diff(b"a\n\xff\n", b"a\n\xfe\n").unwrap(), "@@ -1,2 +1,2 @@\n a\n-\u{fffd}\n+\u{fffd}\n");
    }

    #[test]
    fn it_gives_up_where_much_differs() {
        let many: String = (0..200).map(|number| format!("line {number}\n")).collect();
        let other: String = (0..200).map(|number| format!("other {number}\n")).collect();
        assert!(sparse_diff(many.as_bytes(), other.as_bytes()).is_none());
    }
}
