//! The way through a server's configuration by its include lines, to find whether a file of ours is taken in. A machine
//! without I/O: it says what to read or to list next.

use std::path::{Path, PathBuf};

use super::include_lines::{fits_pattern, include_targets};

/// A configuration with more files than this is followed no further.
const MOST_FILES: usize = 500;

/// What has to be looked at next.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum IncludeAsk {
    Read(PathBuf),
    /// The names in a folder: an include line has a pattern for them.
    List(PathBuf),
}

/// ```
/// use brightharbor_core::render::{IncludeAsk, IncludeWalk};
/// let mut walk = IncludeWalk::new("/etc/nginx/nginx.conf".into(), "/harbor/servers/nginx/*.conf".into());
/// assert_eq!(walk.next_ask(), Some(IncludeAsk::Read("/etc/nginx/nginx.conf".into())));
/// walk.read("http { include /harbor/servers/nginx/*.conf; }");
/// assert!(walk.next_ask().is_none() && walk.found());
/// ```
#[derive(Debug, Clone)]
pub struct IncludeWalk {
    wanted: PathBuf,
    /// What include lines are relative to.
    base: PathBuf,
    /// What lies below is not followed.
    left_out: Option<PathBuf>,
    to_read: Vec<PathBuf>,
    to_list: Vec<PathBuf>,
    seen: Vec<PathBuf>,
    found: bool,
}

impl IncludeWalk {
    pub fn new(main_file: PathBuf, wanted: PathBuf) -> Self {
        let base = main_file.parent().unwrap_or(Path::new("/")).to_path_buf();
        Self { wanted, base, left_out: None, to_read: vec![main_file], to_list: vec![], seen: vec![], found: false }
    }

    /// Without the files below a folder, however many there are.
    pub fn leaving_out(self, folder: PathBuf) -> Self {
        Self { left_out: Some(folder), ..self }
    }

    /// `None` when it is over.
    pub fn next_ask(&mut self) -> Option<IncludeAsk> {
        if self.found {
            return None;
        }
        if let Some(target) = self.to_list.last() {
            return Some(IncludeAsk::List(target.parent().unwrap_or(Path::new("/")).to_path_buf()));
        }
        while let Some(file) = self.to_read.pop() {
            if !self.seen.contains(&file) && self.seen.len() < MOST_FILES {
                self.seen.push(file.clone());
                return Some(IncludeAsk::Read(file));
            }
        }
        None
    }

    /// Takes the text of the file; one that cannot be read is left out.
    pub fn read(&mut self, text: &str) {
        for target in include_targets(text) {
            let target = self.base.join(target);
            self.found |= target == self.wanted;
            if self.left_out.as_ref().is_some_and(|folder| target.starts_with(folder)) {
                continue;
            }
            let has_pattern = target.file_name().is_some_and(|name| name.to_string_lossy().contains('*'));
            if has_pattern { self.to_list.push(target) } else { self.to_read.push(target) }
        }
    }

    /// Takes the names in the folder.
    pub fn listed(&mut self, names: &[String]) {
        let Some(target) = self.to_list.pop() else { return };
        let (Some(folder), Some(pattern)) = (target.parent(), target.file_name()) else { return };
        let fitting = names.iter().filter(|name| fits_pattern(name, &pattern.to_string_lossy()));
        self.to_read.extend(fitting.map(|name| folder.join(name)));
    }

    pub fn found(&self) -> bool {
        self.found
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Goes through files that are only thought of. Gives whether it was found, and what was read.
    fn walked(files: &[(&str, &str)]) -> (bool, Vec<String>) {
        let mut walk = IncludeWalk::new("/etc/main.conf".into(), "/harbor/*.conf".into());
        let mut read = vec![];
        while let Some(ask) = walk.next_ask() {
            match ask {
                IncludeAsk::Read(path) => {
                    read.push(path.display().to_string());
                    if let Some((_, text)) = files.iter().find(|(name, _)| Path::new(name) == path) {
                        walk.read(text);
                    }
                }
                IncludeAsk::List(folder) => {
                    let names = files.iter().map(|(name, _)| Path::new(name));
                    let inside = names.filter(|path| path.parent() == Some(&folder)).filter_map(Path::file_name);
                    walk.listed(&inside.map(|name| name.to_string_lossy().into_owned()).collect::<Vec<_>>());
                }
            }
        }
        (walk.found(), read)
    }

    #[test]
    fn includes_are_followed_through_patterns_and_no_file_is_read_twice() {
        let round =
            [("/etc/main.conf", "include d/*.conf;"), ("/etc/d/a.conf", "include main.conf; include d/a.conf;")];
        assert_eq!(walked(&round), (false, vec!["/etc/main.conf".into(), "/etc/d/a.conf".into()]));
        let through = [round[0], ("/etc/d/b.conf", "include /harbor/*.conf;"), ("/etc/d/b.conf.off", "include x;")];
        assert!(walked(&through).0 && !walked(&through).1.contains(&"/etc/d/b.conf.off".to_string()));
        assert!(!walked(&[("/etc/main.conf", "# include /harbor/*.conf;")]).0);
        let mut walk = IncludeWalk::new("/m".into(), "/none".into()).leaving_out("/harbor".into());
        walk.next_ask();
        walk.read("include /harbor/*.conf; include /harbor/a; include /etc/b;");
        assert_eq!((walk.next_ask(), walk.next_ask()), (Some(IncludeAsk::Read("/etc/b".into())), None));
    }
}
