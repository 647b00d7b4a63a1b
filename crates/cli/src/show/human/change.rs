//! Change sets: a line a change, and diffs of the files.

use std::path::Path;

use brightharbor_core::change::{Change, ChangeSet, Purpose, Remark, ZoneUpdate};
use similar::TextDiff;

use super::Page;
use super::sparse_diff::sparse_diff;
use crate::run::Carried;
use crate::show::words;

/// What was done; for a dry run, what would be done, and what has to be consented to first.
pub fn change_report(page: &mut Page, carried: &Carried) {
    let Carried { plan, entry, missing, .. } = carried;
    let would = entry.is_none() && !plan.is_empty();
    if would {
        page.heading("Dry run: nothing was changed.");
    }
    remarks(page, &plan.remarks, would);
    if !would {
        return;
    }
    page.blank();
    page.line("Changes:");
    for change in &plan.set.changes {
        page.hanging("  ", &words::change_line(&change.into()));
    }
    let diff = diff(&plan.set);
    if !diff.is_empty() {
        page.blank();
        diff.lines().for_each(|line| page.line(line));
    }
    if !missing.is_empty() {
        page.blank();
        page.line("The command would be refused without --yes:");
        for told in missing.iter().map(words::consent) {
            page.hanging("  ", &format!("{}.", told.sentence()));
            told.detail.lines().for_each(|line| page.line(&format!("    {line}")));
        }
    }
}

/// Remarks, a sentence each.
pub fn remarks(page: &mut Page, remarks: &[Remark], would: bool) {
    for told in remarks.iter().map(words::remark) {
        page.hanging("", &sentence(&if would { told.would() } else { told.sentence() }));
        told.detail.lines().for_each(|line| page.hanging("  ", line));
    }
}

/// With a capital and a full stop.
fn sentence(text: &str) -> String {
    // A full name ends with a dot of its own.
    let text = text.strip_suffix('.').unwrap_or(text);
    let mut characters = text.chars();
    let first: String = characters.next().into_iter().flat_map(char::to_uppercase).collect();
    // A hostname, an option and a name of somebody's own keep their case.
    let word = text.split(' ').next().unwrap_or_default();
    if word.contains(['.', ':', '@', '/']) { format!("{text}.") } else { format!("{first}{}.", characters.as_str()) }
}

/// From this size on, in bytes, files are taken to differ in a few places.
const LARGE: usize = 1 << 18;

/// The files as a unified diff. Keys are never shown, nor what is made for a new one each time.
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
        if matches!(write.purpose, Purpose::Key | Purpose::Chain | Purpose::Staple | Purpose::Request | Purpose::Copy) {
            continue;
        }
        text.push_str(&file_diff(&write.path, write.before.as_deref(), Some(&write.content)));
    }
    text
}

/// A file before and after; `None`: there was none, or is none any more.
pub fn file_diff(path: &Path, before: Option<&[u8]>, after: Option<&[u8]>) -> String {
    let path = path.display().to_string();
    let named = |content: Option<&[u8]>| if content.is_some() { path.as_str() } else { "/dev/null" };
    let (old, new) = (named(before), named(after));
    let [before, after] = [before, after].map(Option::unwrap_or_default);
    if before.len() > LARGE
        && let Some(hunks) = sparse_diff(before, after)
    {
        return format!("--- {old}\n+++ {new}\n{hunks}");
    }
    let [before, after] = [before, after].map(String::from_utf8_lossy);
    let diff = TextDiff::from_lines(&*before, &*after);
    diff.unified_diff().context_radius(2).header(old, new).to_string()
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
    use brightharbor_core::change::{Consent, FileWrite, Plan};
    use brightharbor_core::name::Hostname;
    use brightharbor_core::zone::ZoneRemark;

    #[test]
    fn a_diff_shows_files_and_never_keys() {
        let mut set = ChangeSet::new("test");
        set.file(FileWrite::new("/h/key.pem".into(), None, "SECRET\n", 0o600, Purpose::Key));
        set.file(FileWrite::new("/h/site".into(), Some(b"a\nb\n".to_vec()), "a\nc\n", 0o644, Purpose::SiteFile));
        assert_eq!(diff(&set), "--- /h/site\n+++ /h/site\n@@ -1,2 +1,2 @@\n a\n-b\n+c\n");
    }

    #[test]
    fn a_dry_run_says_first_that_nothing_was_changed_and_last_what_has_to_be_consented_to() {
        let mut plan = Plan::new("test");
        plan.set.file(FileWrite::new("/h/site".into(), None, "a\n", 0o644, Purpose::SiteFile));
        let zone = Hostname::parse("gullrock.example").unwrap();
        plan.remark(ZoneRemark::New { zone: zone.clone(), serial: 7 });
        plan.remark(ZoneRemark::KeptElsewhere { zone });
        let consent = Consent::ClosesCaAccount { ca: "pier".into() };
        plan.needs_consent(consent.clone());
        let mut page = Page::of_width(100);
        let mut carried = Carried { plan, entry: None, took: Default::default(), missing: vec![consent] };
        change_report(&mut page, &carried);
        let expected = "Dry run: nothing was changed.\nWould create zone gullrock.example, serial 7.\n\
                        Zone gullrock.example is not in this harbor; enter the records below where it is kept.\n\n\
                        Changes:\n  write /h/site (644)\n\n\
                        --- /dev/null\n+++ /h/site\n@@ -0,0 +1 @@\n+a\n\n\
                        The command would be refused without --yes:\n  the account at the CA `pier` would be closed \
                        for ever.\n";
        assert_eq!(page.plain(), expected);
        let mut page = Page::of_width(100);
        carried.entry = Some(1);
        change_report(&mut page, &carried);
        assert!(page.plain().starts_with("Created zone gullrock.example, serial 7.\n"));
    }
}
