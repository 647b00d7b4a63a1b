//! Follows redirects (RFC 9110 section 15.4) over the pages seen so far, and says which page to fetch next.
//!
//! A pure function like `delegation::next_questions`: called again with each page until it ends. Bounded.

use std::collections::HashMap;

use serde::Serialize;
use url::Url;

use crate::render::{LATE, STARTER_MARK, UNANSWERED};

/// What came for one URL.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PageSeen {
    Answer { status: u16, location: Option<String> },
    Failed { reason: String },
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FollowStep {
    Fetch(Url),
    Ended(Landing),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Landing {
    pub hops: Vec<Hop>,
    pub end: LandingEnd,
    /// What the page is that they end at, where that was looked at.
    pub shows: Option<Shows>,
}

/// What a page is, as far as a program can tell.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shows {
    /// The page that a new document root starts with.
    StarterPage,
    /// A server's own list of files.
    Listing,
    /// Nothing: no page where one is looked for.
    EmptyFolder,
    /// The form of an application that nobody has set up yet: whoever comes first owns it.
    SetupForm,
    /// What a script is written in, in place of what it writes.
    ScriptText,
    /// Our web server's word that nobody takes connections where a program should be.
    NoProgram,
    /// And that it took too long.
    LateProgram,
    Content,
}

impl Shows {
    /// Judged by status and body. Servers name their lists `Index of`.
    pub fn of(status: u16, body: &[u8]) -> Option<Self> {
        let text = String::from_utf8_lossy(&body[..body.len().min(4096)]);
        match status {
            403 | 404 => Some(Shows::EmptyFolder),
            200 if text.contains(STARTER_MARK) => Some(Shows::StarterPage),
            200 if text.contains("<title>Index of ") => Some(Shows::Listing),
            200 if text.trim_start().starts_with("<?php") => Some(Shows::ScriptText),
            200 if is_setup_form(&text) => Some(Shows::SetupForm),
            200 => Some(Shows::Content),
            502..=504 if text.contains(UNANSWERED) => Some(Shows::NoProgram),
            502..=504 if text.contains(LATE) => Some(Shows::LateProgram),
            _ => None,
        }
    }

    pub fn words(self) -> &'static str {
        match self {
            Shows::StarterPage => "the starter page",
            Shows::Listing => "a list of files",
            Shows::EmptyFolder => "no page: is the folder empty?",
            Shows::SetupForm => "the form of an application that is not set up yet",
            Shows::ScriptText => "the text of a script: PHP does not run here",
            Shows::NoProgram => "that the program behind it does not answer",
            Shows::LateProgram => "that the program behind it takes too long",
            Shows::Content => "content",
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Hop {
    pub url: String,
    pub status: u16,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum LandingEnd {
    Page { url: String, status: u16 },
    Loop { url: String },
    TooLong,
    Failed { url: String, reason: String },
    NoTarget { url: String, location: String },
}

/// Told by the title and a form: applications say of themselves that they want to be installed.
fn is_setup_form(text: &str) -> bool {
    let text = text.to_ascii_lowercase();
    let title =
        text.split_once("<title>").and_then(|(_, rest)| rest.split_once("</title>")).map_or("", |(title, _)| title);
    let words = ["install", "installation", "installer", "setup", "set-up"];
    let says_so = title.split(|c: char| !c.is_ascii_alphabetic() && c != '-').any(|word| words.contains(&word));
    says_so && text.contains("<form")
}

/// More redirects in a row than any browser follows.
const MOST_HOPS: usize = 12;

/// Goes on from `start` as far as the pages seen lead.
pub fn follow(start: &Url, seen: &HashMap<Url, PageSeen>) -> FollowStep {
    let mut hops: Vec<Hop> = Vec::new();
    let mut at = start.clone();
    loop {
        let text = at.to_string();
        let end = |hops: Vec<Hop>, end: LandingEnd| FollowStep::Ended(Landing { hops, end, shows: None });
        if hops.iter().any(|hop| hop.url == text) {
            return end(hops, LandingEnd::Loop { url: text });
        }
        if hops.len() >= MOST_HOPS {
            return end(hops, LandingEnd::TooLong);
        }
        let (status, location) = match seen.get(&at) {
            None => return FollowStep::Fetch(at),
            Some(PageSeen::Failed { reason }) => {
                return end(hops, LandingEnd::Failed { url: text, reason: reason.clone() });
            }
            Some(PageSeen::Answer { status, location }) => (*status, location),
        };
        if !matches!(status, 301 | 302 | 303 | 307 | 308) {
            return end(hops, LandingEnd::Page { url: text, status });
        }
        hops.push(Hop { url: text.clone(), status });
        let target = location.as_deref().and_then(|location| at.join(location).ok());
        match target.filter(|target| matches!(target.scheme(), "http" | "https") && target.has_host()) {
            Some(mut target) => {
                target.set_fragment(None);
                at = target;
            }
            None => {
                let location = location.clone().unwrap_or_default().chars().take(120).collect();
                return end(hops, LandingEnd::NoTarget { url: text, location });
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn landing(pages: &[(&str, u16, &str)]) -> Landing {
        let seen: HashMap<Url, PageSeen> = pages
            .iter()
            .map(|(url, status, location)| {
                let location = (!location.is_empty()).then(|| location.to_string());
                (url.parse().unwrap(), PageSeen::Answer { status: *status, location })
            })
            .collect();
        match follow(&pages[0].0.parse().unwrap(), &seen) {
            FollowStep::Ended(landing) => landing,
            FollowStep::Fetch(url) => panic!("{url} was not foreseen"),
        }
    }

    #[test]
    fn pages_that_a_program_should_have_made_are_told_from_content() {
        let of = |status, text: &str| Shows::of(status, text.as_bytes());
        assert_eq!(of(503, UNANSWERED), Some(Shows::NoProgram));
        assert_eq!(of(504, LATE), Some(Shows::LateProgram));
        assert_eq!(of(503, "back in an hour"), None);
        assert_eq!(of(200, "\n<?php phpinfo();"), Some(Shows::ScriptText));
        let form = "<html><title>Tide Tables \u{2013} Installation</title><FORM method=post>";
        assert_eq!(of(200, form), Some(Shows::SetupForm));
        for content in [form.replace("FORM", "p").as_str(), "<title>Installed boats</title><form>", "<p>setup<form>"] {
            assert_eq!(of(200, content), Some(Shows::Content), "{content}");
        }
    }

    #[test]
    fn http_to_https_to_the_page() {
        let landed = landing(&[
            ("http://gullrock.example/", 301, "https://gullrock.example/"),
            ("https://gullrock.example/", 302, "boats?new#top"),
            ("https://gullrock.example/boats?new", 200, ""),
        ]);
        assert_eq!(landed.end, LandingEnd::Page { url: "https://gullrock.example/boats?new".into(), status: 200 });
        assert_eq!(landed.hops.len(), 2);
    }

    #[test]
    fn what_a_page_is() {
        let starter = crate::render::starter_page(&crate::name::Host::parse("gullrock.example").unwrap());
        assert_eq!(Shows::of(200, starter.as_bytes()), Some(Shows::StarterPage));
        assert_eq!(Shows::of(200, b"<html><head><title>Index of /boats/</title>"), Some(Shows::Listing));
        assert_eq!(Shows::of(200, b"boats"), Some(Shows::Content));
        assert_eq!((Shows::of(404, b""), Shows::of(503, b"")), (Some(Shows::EmptyFolder), None));
    }

    #[test]
    fn loops_and_bad_targets_end() {
        let around = landing(&[
            ("http://a.example/", 301, "https://a.example/"),
            ("https://a.example/", 301, "http://a.example/"),
        ]);
        assert_eq!(around.end, LandingEnd::Loop { url: "http://a.example/".into() });
        let nowhere = landing(&[("http://a.example/", 301, "")]);
        assert!(matches!(nowhere.end, LandingEnd::NoTarget { .. }));
        let script = landing(&[("http://a.example/", 302, "javascript:alert(1)")]);
        assert!(matches!(script.end, LandingEnd::NoTarget { .. }));
        let urls: Vec<String> = (0..20).map(|n| format!("http://a.example/{n}")).collect();
        let long: Vec<(&str, u16, &str)> = (0..19).map(|n| (urls[n].as_str(), 302, urls[n + 1].as_str())).collect();
        assert_eq!(landing(&long).end, LandingEnd::TooLong);
    }
}
