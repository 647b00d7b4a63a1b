//! What both web servers have to know about the parts of a site that a host shows: which there are behind its redirects,
//! where PHP listens, and what visitors read when a program does not answer.

use std::collections::BTreeMap;
use std::path::PathBuf;

use super::Served;
use super::host_plan::HostPlan;
use crate::account::AccountName;
use crate::harbor::{Php, socket_in};
use crate::site::{Answering, Guard, Upstream, is_at_or_below};

/// Scripts that PHP would run, in any spelling. Wherever they are not run, they are not shown either: they hold passwords.
pub(super) const SCRIPTS: &str = "[.](?:php[0-9]?|phtml|phar)(?:/|$)";
/// Those that are run.
pub(super) const RUN: &str = "[.]php(?:/|$)";

/// Whether a decoded path is one of those.
pub fn is_script(path: &str) -> bool {
    let ends = |name: &str| {
        let Some((_, ending)) = name.rsplit_once('.') else { return false };
        let ending = ending.to_ascii_lowercase();
        let number = ending.strip_prefix("php").map(str::as_bytes);
        matches!(&ending[..], "phtml" | "phar") || matches!(number, Some([] | [b'0'..=b'9']))
    };
    path.split('/').any(ends)
}

/// What visitors read when a program does not do its part: statuses as nginx has them, the one that is answered, the words.
pub const PROGRAM_WORDS: [(&str, &[u16], u16, &str); 3] = [
    ("too-large", &[413], 413, "This is too large to be taken."),
    ("unanswered", &[502, 503], 503, UNANSWERED),
    ("late", &[504], 504, LATE),
];

/// What visitors read who have no password for a guarded path.
pub(super) const SIGN_IN: &str = "This page is for those who have a name and a password here.";

/// What visitors read when nobody takes connections where a program should be.
pub const UNANSWERED: &str = "The program behind this page does not answer.";

/// What they read when it has not answered within its time.
pub const LATE: &str = "The program behind this page takes too long.";

/// A part as a host shows it.
pub(super) struct ShownPart<'a> {
    /// Empty for the root, so that a slash can be put behind it.
    pub stem: &'a str,
    /// That of the part as the site has it: this one may be a piece of it that is guarded otherwise.
    pub base: &'a str,
    pub guard: Option<&'a Guard>,
    pub by: &'a Answering,
    /// Whether the path without a slash is this part's: a redirect or a seller's file may have it.
    pub has_bare_path: bool,
}

impl ShownPart<'_> {
    /// Whether it is a piece of a part, which may be a single file.
    pub fn is_piece(&self) -> bool {
        self.stem != self.base
    }
}

/// The parts of a host, the longest paths first, without those that a redirect takes all visitors of. `apart`: guarded paths are parts of their own, for a server that has one block a path.
pub(super) fn shown_parts<'a>(served: &Served<'a>, plan: &HostPlan<'a>, apart: bool) -> Vec<ShownPart<'a>> {
    let redirected = |path: &str| {
        plan.of_paths().any(|redirect| {
            let source = redirect.source.path.as_str();
            redirect.source.prefix && source != "/" && is_at_or_below(source, path)
        })
    };
    let has_bare = |path: &str| {
        path != "/"
            && !plan.of_paths().any(|redirect| redirect.source.path == path)
            && !served.demanded().any(|(demanded, _)| demanded == path)
    };
    let all = served.site.rules.content.all_parts().into_iter();
    let content = &served.site.rules.content;
    let shown = all.filter(|(path, _)| !redirected(path)).map(|(path, by)| (path, path, by));
    let mut shown: Vec<(&str, &str, &Answering)> = shown.collect();
    if apart {
        for guard in content.guards.iter().filter(|guard| !redirected(&guard.path)) {
            let (base, by) = content.part_at(&guard.path);
            if !shown.iter().any(|(path, ..)| *path == guard.path) {
                shown.push((&guard.path, base, by));
            }
        }
        shown.sort_by_key(|(path, ..)| (std::cmp::Reverse(path.len()), *path));
    }
    let part = |(path, base, by): (&'a str, &'a str, &'a Answering)| ShownPart {
        stem: path.trim_end_matches('/'),
        base: base.trim_end_matches('/'),
        guard: content.guard_at(path),
        by,
        has_bare_path: has_bare(path),
    };
    shown.into_iter().map(part).collect()
}

/// Where somebody else than the web server listens for the requests of a part.
pub fn upstream_of(by: &Answering, account: &AccountName, versions: &BTreeMap<String, Php>) -> Option<Upstream> {
    match by {
        Answering::Php(version) => {
            let folder =
                versions.get(version).map_or_else(|| PathBuf::from("/run/php"), |php| php.socket_folder.clone());
            Some(Upstream::Socket(socket_in(&folder, version, account)))
        }
        Answering::PhpAt(at) | Answering::Program(at) => Some(at.clone()),
        Answering::Files => None,
    }
}

impl Served<'_> {
    /// Where PHP of a part listens; `None` if it is no PHP.
    pub(super) fn php_at(&self, by: &Answering) -> Option<Upstream> {
        let is_php = matches!(by, Answering::Php(_) | Answering::PhpAt(_));
        upstream_of(by, &self.site.account, self.php).filter(|_| is_php)
    }

    /// The folders in which no script is run, as far as they have to do with a part: those in it, and those that it is in.
    pub(super) fn no_scripts_around<'s>(&'s self, stem: &'s str) -> impl Iterator<Item = &'s str> {
        let folders = self.site.rules.content.no_scripts.iter().map(String::as_str);
        // The stem of the root is empty, and all lies below it.
        folders.filter(move |folder| is_at_or_below(stem, folder) || is_at_or_below(folder, stem))
    }
}

/// A path as a regular expression that both servers read alike. Paths of parts are letters, digits, and `/ . _ - ~`.
pub(super) fn in_pattern(path: &str) -> String {
    path.replace('.', "[.]")
}
