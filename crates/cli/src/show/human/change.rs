//! Change sets: a line a change, and diffs of the files.

use brightharbor_core::change::{Change, ChangeSet, Purpose, ZoneUpdate};
use similar::TextDiff;

use super::Page;
use super::sparse_diff::sparse_diff;
use crate::run::Changed;

/// What was made of the request; for a dry run, what would be done.
pub fn change_report(page: &mut Page, changed: &Changed) {
    for said in &changed.said {
        page.hanging("", &sentence(said));
    }
    if changed.entry.is_some() {
        return;
    }
    page.blank();
    page.line("Nothing was done. These changes would be made:");
    for change in &changed.set.changes {
        page.hanging("  ", &change.line());
    }
    let diff = diff(&changed.set);
    if !diff.is_empty() {
        page.blank();
        diff.lines().for_each(|line| page.line(line));
    }
}

fn sentence(text: &str) -> String {
    // A full name ends with a dot of its own.
    let text = text.strip_suffix('.').unwrap_or(text);
    let mut characters = text.chars();
    let first: String = characters.next().into_iter().flat_map(char::to_uppercase).collect();
    // A hostname keeps its case.
    let word = text.split(' ').next().unwrap_or_default();
    if word.contains('.') { format!("{text}.") } else { format!("{first}{}.", characters.as_str()) }
}

/// From this size on, in bytes, files are taken to differ in a few places.
const LARGE: usize = 1 << 18;

/// The files as a unified diff. Keys are never shown.
pub fn diff(set: &ChangeSet) -> String {
    let mut text = String::new();
    for change in &set.changes {
        let write = match change {
            Change::WriteFile(write) => write,
            Change::UpdateZone(update) => {
                text.push_str(&update_lines(update));
                continue;
            }
            _ => continue,
        };
        if matches!(write.purpose, Purpose::Key | Purpose::Chain) {
            continue;
        }
        let before = String::from_utf8_lossy(write.before.as_deref().unwrap_or_default()).into_owned();
        let after = String::from_utf8_lossy(&write.content).into_owned();
        let path = write.path.display().to_string();
        let old = if write.before.is_some() { path.as_str() } else { "/dev/null" };
        if before.len() > LARGE
            && let Some(hunks) = sparse_diff(&before, &after)
        {
            text.push_str(&format!("--- {old}\n+++ {path}\n{hunks}"));
            continue;
        }
        let diff = TextDiff::from_lines(&before, &after);
        text.push_str(&diff.unified_diff().context_radius(2).header(old, &path).to_string());
    }
    text
}

/// An update, in the form of a diff.
fn update_lines(update: &ZoneUpdate) -> String {
    let ZoneUpdate { zone, server, update, .. } = update;
    let mut text = format!("--- {zone} at {server}\n+++ {zone} at {server}\n");
    update.removed.iter().for_each(|record| text.push_str(&format!("-{record}\n")));
    update.added.iter().for_each(|record| text.push_str(&format!("+{record}\n")));
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use brightharbor_core::change::FileWrite;

    #[test]
    fn a_diff_shows_files_and_never_keys() {
        let mut set = ChangeSet::new("test");
        set.file(FileWrite::new("/h/key.pem".into(), None, "SECRET\n", 0o600, Purpose::Key));
        set.file(FileWrite::new("/h/site".into(), Some(b"a\nb\n".to_vec()), "a\nc\n", 0o644, Purpose::SiteFile));
        assert_eq!(diff(&set), "--- /h/site\n+++ /h/site\n@@ -1,2 +1,2 @@\n a\n-b\n+c\n");
    }

    #[test]
    fn a_dry_run_says_first_that_nothing_was_done() {
        let mut set = ChangeSet::new("test");
        set.file(FileWrite::new("/h/site".into(), None, "a\n", 0o644, Purpose::SiteFile));
        let said = vec!["the zone gullrock.example is new".into(), "gullrock.example is attached".into()];
        let mut page = Page::of_width(100);
        change_report(&mut page, &Changed { set, said, entry: None, took: Default::default() });
        let expected = "The zone gullrock.example is new.\ngullrock.example is attached.\n\n\
                        Nothing was done. These changes would be made:\n  write /h/site (644)\n\n\
                        --- /dev/null\n+++ /h/site\n@@ -0,0 +1 @@\n+a\n";
        assert_eq!(page.plain(), expected);
    }
}
