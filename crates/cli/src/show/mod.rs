//! What is printed: every report can be shown to people ([`human`]) and to programs ([`json`]).

mod changed;
pub mod codes;
mod document;
pub mod handover;
pub mod html;
pub mod human;
pub mod json;
pub mod metrics;
pub mod words;

use std::io::Write;
use std::process::ExitCode;

use brightharbor_core::survey::Survey;
use serde_json::{Value, json};

use crate::error::{Error, Exit};
use crate::journal::{self, Level};
pub use changed::ChangeReport;
pub use document::Items;
use human::Page;

/// A command's result.
pub trait Shown {
    fn human(&self, page: &mut Page);
    /// The members of the JSON document, without `format` and `exit`.
    fn json(&self) -> Value;
    /// One more member, whose many items are made one after the other while the document is written.
    fn json_items(&self) -> Option<(&'static str, Items<'_>)> {
        None
    }
    fn exit(&self) -> Exit;
}

/// Prints a report to stdout.
pub fn print(report: &dyn Shown, as_json: bool) -> ExitCode {
    let written = if as_json {
        let mut out = std::io::BufWriter::new(std::io::stdout().lock());
        document::write(&mut out, &report.json(), report.exit(), report.json_items()).and_then(|()| out.flush())
    } else {
        let mut page = Page::new();
        report.human(&mut page);
        if page.is_file() {
            let mut out = std::io::stdout().lock();
            out.write_all(&page.into_bytes()).and_then(|()| out.flush())
        } else {
            // Styles go only where they are seen.
            let mut out = anstream::stdout().lock();
            out.write_all(&page.into_bytes()).and_then(|()| out.flush())
        }
    };
    match written {
        Err(error) if !is_closed_pipe(&error) => print_error(&Error::output(&error), false),
        _ => ExitCode::from(report.exit() as u8),
    }
}

/// A closed pipe is the reader's wish, not an error.
pub fn is_closed_pipe(error: &std::io::Error) -> bool {
    error.kind() == std::io::ErrorKind::BrokenPipe
}

/// Prints a part of a report before the rest of it is known.
pub fn print_now(fill: impl FnOnce(&mut Page)) -> std::io::Result<()> {
    let mut page = Page::new();
    fill(&mut page);
    let mut out = anstream::stdout().lock();
    out.write_all(&page.into_bytes())?;
    out.flush()
}

/// The exit code for surveyed hostnames: a fault of this machine's own comes before waiting.
pub fn exit_of(surveys: &[Survey], otherwise: Exit) -> Exit {
    if surveys.iter().any(Survey::has_own_fault) { Exit::Fault } else { otherwise }
}

/// In one line, with commas.
pub fn joined<T: ToString>(items: impl IntoIterator<Item = T>) -> String {
    items.into_iter().map(|item| item.to_string()).collect::<Vec<_>>().join(", ")
}

/// `1 site`, `2 sites`.
pub fn counted(count: usize, thing: &str) -> String {
    if count == 1 { format!("1 {thing}") } else { format!("{count} {}", plural(thing)) }
}

fn plural(thing: &str) -> String {
    if let Some((head, rest)) = thing.split_once(" of ") {
        return format!("{} of {rest}", plural(head));
    }
    match thing.strip_suffix('y') {
        Some(stem) if !stem.ends_with(['a', 'e', 'o', 'u']) => format!("{stem}ies"),
        _ => format!("{thing}s"),
    }
}

/// Prints an error: for people to stderr, for programs as the document on stdout.
pub fn print_error(error: &Error, as_json: bool) -> ExitCode {
    if as_json {
        let mut facts = error.facts.clone();
        facts.insert("code".into(), error.code.into());
        facts.insert("message".into(), error.message.clone().into());
        facts.insert("advice".into(), error.advice.clone().into());
        let value = json!({ "error": facts });
        let _ = document::write(&mut std::io::stdout().lock(), &value, error.exit, None);
    } else {
        let mut page = Page::new();
        // A diff keeps its lines.
        let mut lines = error.message.lines();
        page.hanging("error: ", lines.next().unwrap_or_default());
        lines.for_each(|line| page.line(&format!("  {line}")));
        if let Some(advice) = &error.advice {
            page.hanging("  next: ", advice);
        }
        let (bytes, prefix) = (page.into_bytes(), journal::prefix(Level::Error));
        let _ = match prefix.is_empty() {
            true => anstream::stderr().write_all(&bytes),
            // A line of its own each.
            false => {
                let text = String::from_utf8_lossy(&bytes);
                let lines: String = text.lines().map(|line| format!("{prefix}{line}\n")).collect();
                anstream::stderr().write_all(lines.as_bytes())
            }
        };
    }
    ExitCode::from(error.exit as u8)
}

#[cfg(test)]
mod tests {
    use super::counted;

    #[test]
    fn things_are_counted_in_their_plural() {
        assert_eq!(counted(1, "entry"), "1 entry");
        assert_eq!(counted(0, "entry"), "0 entries");
        assert_eq!(counted(2, "day"), "2 days");
        assert_eq!(counted(3, "piece of work"), "3 pieces of work");
        assert_eq!(counted(12, "site"), "12 sites");
    }
}
