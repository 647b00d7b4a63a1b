//! A place in a zone file that cannot be read: where it is, what stands there, and why it is wrong.

use std::ops::Range;

/// A place in a zone file that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}line {line}, column {column}: {problem}{}", shown_file(.file), shown_offence(.offence))]
pub struct ZoneError {
    /// The included file that it stands in; `None` for the zone file itself.
    pub file: Option<String>,
    pub line: usize,
    pub column: usize,
    /// The offending text, shortened.
    pub offence: String,
    pub problem: ZoneProblem,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ZoneProblem {
    #[error("a parenthesis is opened and never closed")]
    OpenParenthesis,
    #[error("a closing parenthesis without an opening one")]
    StrayParenthesis,
    #[error("a quote is opened and not closed on its line")]
    OpenQuote,
    #[error("the first record leaves out its owner, and there is none before it")]
    NoOwner,
    #[error("no TTL: neither here, nor in a $TTL line or a record before")]
    NoTtl,
    #[error("a record type was expected")]
    NoType,
    #[error("only class IN is kept here")]
    OtherClass,
    #[error("{0}")]
    Name(crate::name::DnsNameError),
    #[error("{0}")]
    Data(String),
    #[error("an unknown directive")]
    UnknownDirective,
    #[error("{0} has too many or too few values")]
    DirectiveValue(&'static str),
    #[error("the zone has no SOA record at its apex")]
    NoSoa,
    #[error("a second SOA record")]
    SecondSoa,
    #[error("an SOA record belongs to the apex of the zone alone")]
    SoaBelowApex,
    #[error("a type for questions, which no record has")]
    MetaType,
    #[error("the included file cannot be read: {0}")]
    Include(String),
}

fn shown_file(file: &Option<String>) -> String {
    file.as_ref().map(|file| format!("{file}, ")).unwrap_or_default()
}

fn shown_offence(offence: &str) -> String {
    if offence.is_empty() { String::new() } else { format!(" (at `{offence}`)") }
}

impl ZoneError {
    pub(super) fn at(source: &[u8], span: Range<usize>, problem: ZoneProblem) -> Self {
        let before = &source[..span.start.min(source.len())];
        let line = 1 + before.iter().filter(|&&b| b == b'\n').count();
        let line_start = before.iter().rposition(|&b| b == b'\n').map_or(0, |at| at + 1);
        let text = String::from_utf8_lossy(&source[span.start..span.end.min(source.len())]).into_owned();
        let offence = text.chars().take(60).filter(|c| !c.is_control()).collect();
        Self { file: None, line, column: 1 + span.start - line_start, offence, problem }
    }

    /// The same, in an included file.
    pub(super) fn in_file(mut self, file: &str) -> Self {
        self.file.get_or_insert_with(|| file.to_string());
        self
    }
}
