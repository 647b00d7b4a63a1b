//! What the files named `.htaccess` in a document root may set, on Apache httpd: the groups of its `AllowOverride`.
//!
//! Off unless an administrator asks for it and consents: the web server reads these files as itself, and it may read what
//! no account may (decision 018).

use std::fmt;

use serde::{Deserialize, Serialize};

use super::ContentError;

/// A group of directives, as Apache httpd names it (core, `AllowOverride`).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum Overridable {
    AuthConfig,
    FileInfo,
    Indexes,
    Limit,
}

impl Overridable {
    const ALL: [Self; 4] = [Self::AuthConfig, Self::FileInfo, Self::Indexes, Self::Limit];

    pub fn word(self) -> &'static str {
        match self {
            Self::AuthConfig => "AuthConfig",
            Self::FileInfo => "FileInfo",
            Self::Indexes => "Indexes",
            Self::Limit => "Limit",
        }
    }
}

impl fmt::Display for Overridable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

/// Reads names of groups with commas between, in any case. `Options` is none of them: what links are followed is decided
/// here.
///
/// ```
/// use brightharbor_core::site::{Overridable, parse_overridable};
/// assert_eq!(parse_overridable("indexes, FileInfo").unwrap(), [Overridable::FileInfo, Overridable::Indexes]);
/// assert!(parse_overridable("Options").is_err());
/// ```
pub fn parse_overridable(typed: &str) -> Result<Vec<Overridable>, ContentError> {
    let one = |word: &str| {
        let known = Overridable::ALL.into_iter().find(|group| group.word().eq_ignore_ascii_case(word));
        known.ok_or_else(|| ContentError::Group(word.to_string()))
    };
    let mut groups = typed.split(',').map(|word| one(word.trim())).collect::<Result<Vec<_>, _>>()?;
    groups.sort();
    groups.dedup();
    Ok(groups)
}
