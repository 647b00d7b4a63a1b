//! Lines on stderr. Where they go to the journal of systemd, each begins with its level, as sd-daemon(3) has it: then
//! `journalctl -p warning` finds what matters.

use std::io::Write;
use std::os::unix::fs::MetadataExt;
use std::sync::OnceLock;

use crate::show::human::harmless;

/// The levels of syslog (RFC 5424 section 6.2.1) that are used here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Level {
    Error = 3,
    Notice = 5,
    Info = 6,
}

/// Writes one line.
pub fn write_line(level: Level, line: &str) {
    // A closed stderr is the reader's wish, not an error.
    let _ = writeln!(std::io::stderr(), "{}{}", prefix(level), harmless(line));
}

/// What a line of a level begins with.
pub fn prefix(level: Level) -> String {
    static IS_JOURNAL: OnceLock<bool> = OnceLock::new();
    let is_journal = *IS_JOURNAL.get_or_init(|| {
        let here = std::fs::metadata("/dev/stderr").map(|found| (found.dev(), found.ino())).ok();
        leads_to(std::env::var("JOURNAL_STREAM").ok().as_deref(), here)
    });
    if is_journal { format!("<{}>", level as u8) } else { String::new() }
}

/// systemd says which stream is the journal's: a program may have another one by now.
fn leads_to(stream: Option<&str>, here: Option<(u64, u64)>) -> bool {
    let stream = stream.and_then(|text| text.split_once(':'));
    let stream = stream.and_then(|(device, inode)| Some((device.parse().ok()?, inode.parse().ok()?)));
    stream.is_some() && stream == here
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_journal_is_known_by_its_stream() {
        assert!(leads_to(Some("8:4711"), Some((8, 4711))));
        assert!(!leads_to(Some("8:4711"), Some((8, 4712))) && !leads_to(None, Some((8, 4711))));
        assert!(!leads_to(Some("8"), None) && !leads_to(None, None));
        assert_eq!(prefix(Level::Notice), "");
    }
}
