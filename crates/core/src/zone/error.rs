//! A place in a zone file that cannot be read: where it is, what stands there, and why it is wrong.

use std::ops::Range;

use crate::name::DnsName;

/// A place in a zone file that cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}, column {column}: {problem}{}", shown_offence(.offence))]
pub struct ZoneError {
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
    #[error("a parenthesis inside a parenthesis")]
    NestedParenthesis,
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
    #[error("the name lies outside the zone {0}")]
    OutOfZone(DnsName),
    #[error("{0}")]
    Data(String),
    #[error("an unknown directive")]
    UnknownDirective,
    #[error("{0} takes one value")]
    DirectiveValue(&'static str),
    #[error("the zone has no SOA record at its apex")]
    NoSoa,
    #[error("a second SOA record")]
    SecondSoa,
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
        Self { line, column: 1 + span.start - line_start, offence, problem }
    }
}
