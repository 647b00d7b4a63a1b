//! Which files a server's configuration takes in: the include lines of nginx, Apache httpd, BIND, Knot DNS and NSD. Reading
//! them is for `brightharbor-io`.

use std::path::PathBuf;

/// The files that include lines name: `include`, `Include`, `IncludeOptional`, with or without colon, quotes and semicolon.
pub fn include_targets(text: &str) -> Vec<PathBuf> {
    let mut targets = Vec::new();
    for line in text.lines() {
        let line = line.trim();
        if line.starts_with(['#', '/']) {
            continue;
        }
        let mut words = line.split_whitespace();
        while let Some(word) = words.next() {
            let word = word.trim_end_matches(':').to_ascii_lowercase();
            if !["include", "includeoptional"].contains(&word.as_str()) {
                continue;
            }
            if let Some(target) = words.next() {
                targets.push(PathBuf::from(target.trim_end_matches(['}', ';']).trim_matches('"')));
            }
        }
    }
    targets
}

/// Whether a file's name fits the last part of an include line, which may hold one `*`.
pub fn fits_pattern(name: &str, pattern: &str) -> bool {
    match pattern.split_once('*') {
        Some((start, end)) => name.len() >= start.len() + end.len() && name.starts_with(start) && name.ends_with(end),
        None => name == pattern,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn include_lines_of_every_server_are_read_and_comments_are_not() {
        let of = |text: &str| include_targets(text).iter().map(|path| path.display().to_string()).collect::<Vec<_>>();
        assert_eq!(of("http {\n  # include a.conf;\n  include b/*.conf;\n}\n"), ["b/*.conf"]);
        assert_eq!(of("// include \"a\";\ninclude \"/h/zones.conf\";\n"), ["/h/zones.conf"]);
        assert_eq!(of("IncludeOptional /h/*.conf\nInclude ports.conf\n"), ["/h/*.conf", "ports.conf"]);
        assert_eq!(of("include: \"/h/knot.conf\"\n"), ["/h/knot.conf"]);
        assert_eq!(of("events {} http { include one; include two; }"), ["one", "two"]);
    }

    #[test]
    fn a_star_stands_for_anything_but_not_for_what_is_shared() {
        assert!(fits_pattern("a.conf", "*.conf") && fits_pattern(".conf", "*.conf") && fits_pattern("x", "x"));
        assert!(!fits_pattern("a.conf.off", "*.conf") && !fits_pattern("ab", "ab*b") && !fits_pattern("y", "x"));
    }
}
