//! What a site shows, as JSON: every setting, whether it is as usual or not.

use brightharbor_core::site::{Content, Part};
use serde::Serialize;

#[derive(Debug, Serialize)]
pub struct ContentDocument<'a> {
    parts: Vec<PartDocument>,
    protected: Vec<GuardDocument<'a>>,
    /// The usual pages when empty.
    index: &'a [String],
    listing: bool,
    single_page: Option<&'a str>,
    missing_page: Option<&'a str>,
    cache: Vec<CachedDocument<'a>>,
    front_script: bool,
    no_scripts: &'a [String],
    /// Groups of directives, as Apache httpd names them.
    htaccess: Vec<&'static str>,
    body_limit_bytes: u64,
    time_limit_seconds: u32,
    /// Whether the administrator's own directives are taken in.
    own_directives: bool,
}

/// Who answers at a path.
#[derive(Debug, Serialize)]
pub struct PartDocument {
    path: String,
    /// `files`, `php` or `program`.
    by: &'static str,
    /// As it is typed.
    at: String,
}

#[derive(Debug, Serialize)]
struct GuardDocument<'a> {
    path: &'a str,
    users: &'a [String],
    from: Vec<String>,
}

#[derive(Debug, Serialize)]
struct CachedDocument<'a> {
    endings: &'a [String],
    seconds: u32,
}

impl From<&Part> for PartDocument {
    fn from(part: &Part) -> Self {
        Self { path: part.path.clone(), by: part.by.word(), at: part.by.typed() }
    }
}

impl<'a> From<&'a Content> for ContentDocument<'a> {
    fn from(content: &'a Content) -> Self {
        let guards = content.guards.iter().map(|guard| GuardDocument {
            path: &guard.path,
            users: &guard.users,
            from: guard.from.iter().map(ToString::to_string).collect(),
        });
        let cached = content.cache.iter().map(|one| CachedDocument { endings: &one.endings, seconds: one.seconds });
        Self {
            parts: content.parts.iter().map(PartDocument::from).collect(),
            protected: guards.collect(),
            index: &content.index,
            listing: content.listing,
            single_page: content.single_page.as_deref(),
            missing_page: content.missing_page.as_deref(),
            cache: cached.collect(),
            front_script: content.front,
            no_scripts: &content.no_scripts,
            htaccess: content.htaccess.iter().map(|group| group.word()).collect(),
            body_limit_bytes: content.body_limit(),
            time_limit_seconds: content.time_limit(),
            own_directives: content.own.is_some(),
        }
    }
}
