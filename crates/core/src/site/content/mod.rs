//! What answers at the paths of a site: its files, PHP, or a program behind the web server; and how files are shown.
//!
//! Values alone: what is typed is read in `typed`, a change of them is in `wish`, web server files are in `render`.

mod htaccess;
mod typed;
mod wish;

use std::fmt;
use std::net::SocketAddr;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

pub use htaccess::{Overridable, parse_overridable};
pub use typed::{ContentError, parse_names, parse_part, parse_path, parse_size};
pub use wish::ContentWish;

use super::Guard;

/// How the paths of a site are served. Everything has a default: files, as they lie in the document root.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct Content {
    /// Sorted by path, each path once. What none of them has is files.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Part>,
    /// Paths that not everybody may see, sorted by path, each once.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub guards: Vec<Guard>,
    /// The pages that are shown for a folder, the preferred one first; the usual ones when empty.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub index: Vec<String>,
    /// Whether a folder without such a page is listed.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub listing: bool,
    /// The page that answers for files that are not there, with 200: for applications that run in the browser.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub single_page: Option<String>,
    /// The page that is shown with 404.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub missing_page: Option<String>,
    /// For how long browsers may keep files, by the ending of their names.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cache: Vec<Cached>,
    /// Whether PHP parts have one script, their `index.php`, for whatever is not there.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub front: bool,
    /// Folders in which no script is run, whatever lies there: visitors put files into them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub no_scripts: Vec<String>,
    /// The largest body of a request, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub body_limit: Option<u64>,
    /// For how many seconds a program may be silent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub time_limit: Option<u32>,
    /// What files named `.htaccess` may set; nothing when empty.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub htaccess: Vec<Overridable>,
    /// The hash of what an administrator has written beside, for the web server to read in the site's own block.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub own: Option<String>,
}

/// A path with what lies below it.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Part {
    /// `/`, or a path without a slash at its end.
    pub path: String,
    pub by: Answering,
}

/// Who answers.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Answering {
    /// The web server, with files of the document root.
    Files,
    /// PHP of a version of the settings, in a pool of the account.
    Php(String),
    /// PHP that somebody else has set up.
    PhpAt(Upstream),
    /// A program that speaks http.
    Program(Upstream),
}

/// Where a program listens. A name would have to be looked up before the web server starts: an address never fails.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Upstream {
    Address(SocketAddr),
    Socket(PathBuf),
}

/// Files of some endings, and for how many seconds browsers may keep them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cached {
    pub endings: Vec<String>,
    pub seconds: u32,
}

const FILES: &Answering = &Answering::Files;

impl Content {
    /// What is larger is refused, unless the site says otherwise: more than a page of photographs, less than a disk.
    pub const BODY_LIMIT: u64 = 20 << 20;
    /// A visitor has gone by then.
    pub const TIME_LIMIT: u32 = 60;

    pub fn is_default(&self) -> bool {
        *self == Self::default()
    }

    /// The part that a decoded path lies in: the longest path wins.
    ///
    /// ```
    /// use brightharbor_core::site::{Content, parse_part};
    /// let parts = ["/=php:8.2", "/api=http://127.0.0.1:3000"].map(|typed| parse_part(typed).unwrap());
    /// let content = Content {
    ///     parts: parts.into_iter().filter_map(|(path, by)| Some(brightharbor_core::site::Part { path, by: by? })).collect(),
    ///     ..Content::default()
    /// };
    /// assert_eq!(content.part_at("/api/boats").0, "/api");
    /// assert_eq!(content.part_at("/apis").0, "/");
    /// ```
    pub fn part_at(&self, path: &str) -> (&str, &Answering) {
        let fits = |part: &&Part| part.has(path);
        let part = self.parts.iter().filter(fits).max_by_key(|part| part.path.len());
        part.map_or(("/", FILES), |part| (&part.path, &part.by))
    }

    /// What guards a decoded path: the longest path wins.
    pub fn guard_at(&self, path: &str) -> Option<&Guard> {
        let fits = |guard: &&Guard| is_at_or_below(&guard.path, path);
        self.guards.iter().filter(fits).max_by_key(|guard| guard.path.len())
    }

    /// All parts, that of `/` among them, the longest paths first.
    pub fn all_parts(&self) -> Vec<(&str, &Answering)> {
        let mut all: Vec<(&str, &Answering)> = self.parts.iter().map(|part| (part.path.as_str(), &part.by)).collect();
        if !all.iter().any(|(path, _)| *path == "/") {
            all.push(("/", FILES));
        }
        all.sort_by_key(|(path, _)| (std::cmp::Reverse(path.len()), *path));
        all
    }

    /// The pages for a folder of files, or of PHP.
    pub fn index_of(&self, by: &Answering) -> Vec<&str> {
        match (self.index.is_empty(), by) {
            (false, _) => self.index.iter().map(String::as_str).collect(),
            (true, Answering::Php(_) | Answering::PhpAt(_)) => vec!["index.php", "index.html", "index.htm"],
            (true, _) => vec!["index.html", "index.htm"],
        }
    }

    pub fn body_limit(&self) -> u64 {
        self.body_limit.unwrap_or(Self::BODY_LIMIT)
    }

    pub fn time_limit(&self) -> u32 {
        self.time_limit.unwrap_or(Self::TIME_LIMIT)
    }

    /// Whether anything but the web server answers somewhere.
    pub fn runs_programs(&self) -> bool {
        self.parts.iter().any(|part| part.by != Answering::Files)
    }

    /// The versions of PHP that run in pools of the account.
    pub fn php_versions(&self) -> impl Iterator<Item = &str> {
        self.parts.iter().filter_map(|part| match &part.by {
            Answering::Php(version) => Some(version.as_str()),
            _ => None,
        })
    }
}

impl Part {
    /// Whether a decoded path is it, or lies below it.
    pub fn has(&self, path: &str) -> bool {
        is_at_or_below(&self.path, path)
    }
}

/// Whether a decoded path is another one, or lies below it. The one above has no slash at its end, but for `/` itself.
///
/// ```
/// use brightharbor_core::site::is_at_or_below;
/// assert!(is_at_or_below("/blog", "/blog/x") && is_at_or_below("/blog", "/blog") && is_at_or_below("/", "/x"));
/// assert!(!is_at_or_below("/blog", "/blogs"));
/// ```
pub fn is_at_or_below(above: &str, path: &str) -> bool {
    above == "/" || path.strip_prefix(above).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

impl Answering {
    /// In a word, for programs.
    pub fn word(&self) -> &'static str {
        match self {
            Answering::Files => "files",
            Answering::Php(_) | Answering::PhpAt(_) => "php",
            Answering::Program(_) => "program",
        }
    }

    /// As it is typed.
    pub fn typed(&self) -> String {
        match self {
            Answering::Files => "files".into(),
            Answering::Php(version) => format!("php:{version}"),
            Answering::PhpAt(at) => format!("php:{at}"),
            Answering::Program(Upstream::Address(address)) => format!("http://{address}"),
            Answering::Program(Upstream::Socket(path)) => format!("unix:{}", path.display()),
        }
    }

    /// For people.
    pub fn words(&self) -> String {
        match self {
            Answering::Files => "files".into(),
            Answering::Php(version) => format!("PHP {version}"),
            Answering::PhpAt(at) => format!("PHP at {at}"),
            Answering::Program(at) => format!("the program at {at}"),
        }
    }
}

impl fmt::Display for Upstream {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Upstream::Address(address) => write!(f, "{address}"),
            Upstream::Socket(path) => write!(f, "unix:{}", path.display()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(typed: &str) -> Part {
        let (path, by) = parse_part(typed).unwrap();
        Part { path, by: by.unwrap() }
    }

    #[test]
    fn the_longest_path_wins_and_what_nobody_has_is_files() {
        let parts = ["/blog=php:8.2", "/blog/api=http://127.0.0.1:3000", "/blog/api/docs=files"].map(part).to_vec();
        let content = Content { parts, ..Content::default() };
        let at = |path: &str| content.part_at(path).0.to_string();
        assert_eq!(at("/blog"), "/blog");
        assert_eq!(at("/blog/api"), "/blog/api");
        assert_eq!(at("/blog/api/docs/x"), "/blog/api/docs");
        assert_eq!(at("/blog/apis"), "/blog");
        assert_eq!((at("/blogs").as_str(), content.part_at("/").1), ("/", &Answering::Files));
        let order: Vec<&str> = content.all_parts().into_iter().map(|(path, _)| path).collect();
        assert_eq!(order, ["/blog/api/docs", "/blog/api", "/blog", "/"]);
        assert_eq!(content.php_versions().collect::<Vec<_>>(), ["8.2"]);
        assert!(content.runs_programs() && !Content::default().runs_programs());
    }

    #[test]
    fn a_folder_of_php_shows_its_script_first_unless_the_site_says_otherwise() {
        let (php, files) = (part("php:8.2").by, Answering::Files);
        let usual = Content::default();
        assert_eq!(usual.index_of(&php)[0], "index.php");
        assert_eq!(usual.index_of(&files), ["index.html", "index.htm"]);
        let own = Content { index: vec!["front.html".into()], ..Content::default() };
        assert_eq!((own.index_of(&php), own.index_of(&files)), (vec!["front.html"], vec!["front.html"]));
        assert_eq!((usual.body_limit(), usual.time_limit()), (20 << 20, 60));
    }

    #[test]
    fn what_is_typed_is_shown_as_it_can_be_typed_again() {
        for typed in ["files", "php:8.2", "php:unix:/run/php/x.sock", "http://127.0.0.1:3000", "unix:/run/app.sock"] {
            assert_eq!(part(typed).by.typed(), typed);
        }
    }
}
