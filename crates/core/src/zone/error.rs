//! A place in a zone file that cannot be read: where it is, what stands there, and why it is wrong. And why an edit of a
//! zone is refused.

use std::ops::Range;

use super::RecordType;

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

/// Why an edit was refused; the document is unchanged.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    #[error("{0} lies outside the zone {1}")]
    OutOfZone(String, String),
    #[error("the zone already has the record `{0}`")]
    Duplicate(String),
    #[error("{owner} is an alias (CNAME), which allows no other data beside it (RFC 1034 section 3.6.2)")]
    BesideAlias { owner: String },
    #[error("{owner} has {present} data, and an alias (CNAME) allows no other data beside it (RFC 1034 section 3.6.2)")]
    AliasBeside { owner: String, present: RecordType },
    #[error("{owner} lies below the delegation of {cut}; the record belongs into that zone")]
    BelowDelegation { owner: String, cut: String },
    #[error("other records take their TTL from this line; put a `$TTL` line at the top of the zone first")]
    OthersChange,
    #[error("the SOA record stays; a zone cannot be without it")]
    Soa,
    #[error("line {line} is a $GENERATE line, which stands for several records; change it by hand")]
    NotALine { line: usize },
    #[error("the record stands in an included file; change it there")]
    Elsewhere,
    #[error("the SOA record stands in an included file; its serial must be raised there")]
    SoaIncluded,
    #[error("the zone is signed in its file, and an edit would break its signatures")]
    Signed,
    #[error("the edited zone would not be readable: {0}")]
    Unreadable(ZoneError),
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
