//! A unified diff of two large texts that differ in a few places: one walk over both, no tables of lines.
//!
//! Where the places are not few and small it gives up, and the general algorithm is taken.

/// How far a difference may reach before the texts go on alike.
const REACH: usize = 64;
const CONTEXT: usize = 2;

/// Lines that differ: where they begin in both texts, and how many there are.
struct Difference {
    old: std::ops::Range<usize>,
    new: std::ops::Range<usize>,
}

/// The hunks, without a header; `None` if the texts differ too much for this way.
pub fn sparse_diff(before: &str, after: &str) -> Option<String> {
    // Where they begin and end alike, no line has to be looked at.
    let (skipped, start, end) = alike_at_both_ends(before, after);
    let old: Vec<&str> = before[start..before.len() - end].split_inclusive('\n').collect();
    let new: Vec<&str> = after[start..after.len() - end].split_inclusive('\n').collect();
    let differences = differences(&old, &new)?;
    let mut text = String::new();
    let mut rest = &differences[..];
    while let Some(first) = rest.first() {
        // Differences whose contexts touch share a hunk.
        let mut count = 1;
        while count < rest.len() && rest[count].old.start <= rest[count - 1].old.end + 2 * CONTEXT {
            count += 1;
        }
        let (hunk, more) = rest.split_at(count);
        let last = hunk.last().unwrap_or(first);
        let lead = first.old.start.min(CONTEXT).min(first.new.start);
        let tail = (old.len() - last.old.end).min(CONTEXT);
        let from = (first.old.start - lead, first.new.start - lead);
        let length = (last.old.end + tail - from.0, last.new.end + tail - from.1);
        text.push_str(&format!(
            "@@ -{} +{} @@\n",
            range(skipped + from.0, length.0),
            range(skipped + from.1, length.1)
        ));
        let mut at = from.0;
        for difference in hunk {
            push(&mut text, ' ', &old[at..difference.old.start]);
            push(&mut text, '-', &old[difference.old.clone()]);
            push(&mut text, '+', &new[difference.new.clone()]);
            at = difference.old.end;
        }
        push(&mut text, ' ', &old[at..last.old.end + tail]);
        rest = more;
    }
    Some(text)
}

/// How many lines both begin with, in lines and in bytes, and how many bytes both end with; but for what is shown around the
/// first and the last difference, and for what tells that they go on alike.
fn alike_at_both_ends(before: &str, after: &str) -> (usize, usize, usize) {
    let (old, new) = (before.as_bytes(), after.as_bytes());
    let whole_lines = |end: usize| memchr::memrchr_iter(b'\n', &old[..end]).nth(CONTEXT).map_or(0, |at| at + 1);
    let start = whole_lines(common(old.iter(), new.iter()));
    let room = old.len().min(new.len()) - start;
    let end = common(old.iter().rev().take(room), new.iter().rev());
    let behind = &old[old.len() - end..];
    let end = memchr::memchr_iter(b'\n', behind).nth(2 * CONTEXT).map_or(0, |at| behind.len() - at - 1);
    (memchr::memchr_iter(b'\n', &old[..start]).count(), start, end)
}

fn common<'t>(one: impl Iterator<Item = &'t u8>, other: impl Iterator<Item = &'t u8>) -> usize {
    one.zip(other).take_while(|(one, other)| one == other).count()
}

fn range(start: usize, length: usize) -> String {
    match length {
        0 => format!("{start},0"),
        1 => format!("{}", start + 1),
        length => format!("{},{length}", start + 1),
    }
}

fn push(text: &mut String, mark: char, lines: &[&str]) {
    for line in lines {
        text.push(mark);
        text.push_str(line);
        if !line.ends_with('\n') {
            text.push('\n');
        }
    }
}

fn differences(old: &[&str], new: &[&str]) -> Option<Vec<Difference>> {
    let (mut i, mut j) = (0, 0);
    let mut found = Vec::new();
    while i < old.len() || j < new.len() {
        if i < old.len() && j < new.len() && old[i] == new[j] {
            (i, j) = (i + 1, j + 1);
            continue;
        }
        // The nearest place where both go on alike, for two lines or to the end.
        let alike = |a: usize, b: usize| {
            let end = a == old.len() && b == new.len();
            end || (a < old.len() && b < new.len() && old[a] == new[b] && old.get(a + 1) == new.get(b + 1))
        };
        let (a, b) = (0..=REACH)
            .flat_map(|sum| (0..=sum).map(move |skip| (i + skip, j + sum - skip)))
            .find(|&(a, b)| a <= old.len() && b <= new.len() && alike(a, b))?;
        found.push(Difference { old: i..a, new: j..b });
        (i, j) = (a, b);
    }
    Some(found)
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
            assert_eq!(sparse_diff(&before, &after).unwrap(), general(&before, &after));
        }
    }

    #[test]
    fn it_gives_up_where_much_differs() {
        let many: String = (0..200).map(|number| format!("line {number}\n")).collect();
        let other: String = (0..200).map(|number| format!("other {number}\n")).collect();
        assert!(sparse_diff(&many, &other).is_none());
    }
}
