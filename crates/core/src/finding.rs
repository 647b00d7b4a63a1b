//! A finding: something a check has seen, with the code under which `explain` knows it.
//!
//! The rules that make findings live beside what they judge (`delegation::rules`, `zone::rules`); each declares a
//! [`Rule`] with its texts. Printing is for the command-line crate.

use std::net::SocketAddr;

use jiff::{SignedDuration, Timestamp};
use serde::Serialize;

/// How bad it is: `fault` breaks something for a visitor, `risk` works but is fragile, `note` is worth knowing.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    Fault,
    Risk,
    Note,
}

impl Severity {
    pub fn word(self) -> &'static str {
        match self {
            Severity::Fault => "fault",
            Severity::Risk => "risk",
            Severity::Note => "note",
        }
    }
}

/// The texts of one rule: what `explain CODE` prints.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RuleText {
    pub code: &'static str,
    pub severity: Severity,
    pub what: &'static str,
    pub why: &'static str,
    pub cure: &'static str,
    /// The standard it rests on, as `RFC 1034 section 4.2.2`.
    pub source: &'static str,
}

/// One finding: which rule, about whom, and the facts in words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Finding {
    pub code: &'static str,
    pub severity: Severity,
    /// The name or server it is about.
    pub subject: String,
    /// What was seen, with the values.
    pub message: String,
    /// What to do about it, with the values.
    pub cure: String,
    /// It may be no more than a change made a moment ago, and is a mistake only from then on.
    pub waits_until: Option<Timestamp>,
    /// The server's address, where it is about one.
    #[serde(skip)]
    pub server: Option<SocketAddr>,
    /// What comes of it, and goes with it.
    #[serde(skip)]
    pub follows: Vec<Finding>,
    /// Where it stands in a file, if it is about a file.
    pub place: Option<Place>,
}

/// A line of a file and the column in it, from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Place {
    pub line: usize,
    pub column: usize,
}

impl Finding {
    /// Counts as waiting if, when it was seen, not `seconds` had gone since `changed`.
    pub fn waiting(mut self, changed: Timestamp, seconds: u64, seen: Option<Timestamp>) -> Self {
        let until = i64::try_from(seconds)
            .ok()
            .and_then(|seconds| changed.checked_add(SignedDuration::from_secs(seconds)).ok());
        self.waits_until = until.filter(|until| seen.is_some_and(|seen| seen < *until));
        self
    }

    /// About the server at that address.
    pub fn at(self, server: SocketAddr) -> Self {
        Self { server: Some(server), ..self }
    }

    /// Whether it is certain, and breaks something.
    pub fn is_fault(&self) -> bool {
        self.severity == Severity::Fault && self.waits_until.is_none()
    }

    /// The severity in a word; `waiting` where time may cure it.
    pub fn word(&self) -> &'static str {
        if self.waits_until.is_some() { "waiting" } else { self.severity.word() }
    }
}

impl RuleText {
    /// A finding of this rule about `subject`.
    pub fn finding(&self, subject: impl ToString, message: impl Into<String>, cure: impl Into<String>) -> Finding {
        Finding {
            code: self.code,
            severity: self.severity,
            subject: subject.to_string(),
            message: message.into(),
            cure: cure.into(),
            waits_until: None,
            server: None,
            follows: vec![],
            place: None,
        }
    }
}

/// For the tests of every folder of rules: each file is a registered rule with texts, and each rule has a trigger.
///
/// # Panics
/// If one is left out.
/// A moment to the minute, as findings name it.
pub(crate) fn minute(time: Timestamp) -> String {
    time.strftime("%Y-%m-%d %H:%M UTC").to_string()
}

/// The name of a value of a library in words: `NoCipherSuitesInCommon` as `no cipher suites in common`.
pub fn spaced(name: &str, between: char) -> String {
    let mut words = String::new();
    let mut after_small = false;
    for letter in name.chars() {
        if letter.is_ascii_uppercase() && after_small {
            words.push(between);
        }
        after_small = letter.is_ascii_lowercase() || letter.is_ascii_digit();
        words.push(letter.to_ascii_lowercase());
    }
    words
}

#[cfg(test)]
pub(crate) fn check_folder(folder: &str, registered: &[&RuleText], tested: &[&str]) {
    use std::collections::BTreeSet;
    let folder = format!("{}/src/{folder}", env!("CARGO_MANIFEST_DIR"));
    #[allow(clippy::disallowed_methods, reason = "a test looks whether every rule is registered")]
    let names = std::fs::read_dir(folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
    let files: BTreeSet<String> = names
        .filter(|file| !["mod.rs", "tests.rs"].contains(&file.as_str()))
        .map(|file| file.trim_end_matches(".rs").replace('_', "-"))
        .collect();
    let known: BTreeSet<String> = registered.iter().map(|text| text.code.to_string()).collect();
    let tested: BTreeSet<String> = tested.iter().map(ToString::to_string).collect();
    assert_eq!(files, known);
    assert_eq!(known, tested);
    for text in registered {
        assert!([text.what, text.why, text.cure].iter().all(|part| part.len() > 15), "{}", text.code);
        assert!(text.source.starts_with("RFC "), "{}", text.code);
    }
}
