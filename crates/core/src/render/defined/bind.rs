//! Zones in BIND's configuration (`named.conf` grammar): statements of words, strings and blocks, with three kinds of
//! comment.

use std::ops::Range;
use std::path::{Path, PathBuf};

use super::{DefinedZone, Manner, ZoneKind, bare_name, from_folder, line_at};

/// Blocks within blocks: views, zones, their options, lists in those.
const DEEPEST: usize = 40;

/// A word, a string without its quotes, or one of `{ } ;`.
struct Token<'a> {
    text: &'a str,
    at: Range<usize>,
}

/// Words up to the `;`, and what stands in braces among them.
#[derive(Debug, Default)]
struct Statement<'a> {
    words: Vec<&'a str>,
    inside: Vec<Statement<'a>>,
    at: Range<usize>,
}

pub(super) fn zones(files: &[(PathBuf, String)], directory: Option<&Path>) -> Vec<DefinedZone> {
    let read: Vec<(&PathBuf, &str, Vec<Statement<'_>>)> =
        files.iter().map(|(file, text)| (file, text.as_str(), statements(text))).collect();
    let options: Vec<&Statement<'_>> =
        read.iter().flat_map(|(_, _, all)| all).filter(|one| one.words.first() == Some(&"options")).collect();
    let global = |name: &str| options.iter().flat_map(|one| &one.inside).find(|one| one.words.first() == Some(&name));
    let folder = global("directory").and_then(|one| one.words.get(1)).map(PathBuf::from);
    let folder = folder.as_deref().or(directory);
    let defaults = Manner {
        dynamic: global("allow-update").is_some_and(lets_update),
        signed: global("dnssec-policy").is_some_and(|one| one.words.get(1) != Some(&"none")),
        // A file may be included inside a view: then nothing in it tells.
        in_view: read.iter().flat_map(|(_, _, all)| all).any(|one| one.words.first() == Some(&"view")),
    };
    let mut zones = Vec::new();
    for (file, text, all) in &read {
        collect(all, file, text, folder, defaults, &mut zones);
    }
    zones
}

fn collect(
    all: &[Statement<'_>],
    file: &Path,
    text: &str,
    folder: Option<&Path>,
    defaults: Manner,
    zones: &mut Vec<DefinedZone>,
) {
    for statement in all {
        match statement.words[..] {
            ["view", ..] => collect(&statement.inside, file, text, folder, defaults, zones),
            ["zone", name, ..] => zones.push(zone(name, statement, file, text, folder, defaults)),
            _ => {}
        }
    }
}

fn zone(
    name: &str,
    statement: &Statement<'_>,
    defined_in: &Path,
    text: &str,
    folder: Option<&Path>,
    defaults: Manner,
) -> DefinedZone {
    let value = |key: &str| {
        let found = statement.inside.iter().find(|one| one.words.first() == Some(&key))?;
        found.words.get(1).copied()
    };
    let kind = match value("type") {
        Some("primary" | "master") => ZoneKind::Primary,
        Some("secondary" | "slave" | "mirror") => ZoneKind::Secondary,
        _ => ZoneKind::Other,
    };
    let mut manner = defaults;
    for one in &statement.inside {
        match one.words[..] {
            ["allow-update", ..] => manner.dynamic = lets_update(one),
            ["update-policy", ..] => manner.dynamic = true,
            ["dnssec-policy", policy] => manner.signed = policy != "none",
            ["inline-signing", "yes"] | ["auto-dnssec", "maintain" | "allow"] => manner.signed = true,
            _ => {}
        }
    }
    DefinedZone {
        name: bare_name(name),
        kind,
        file: value("file").and_then(|file| from_folder(folder, file)),
        manner,
        defined_in: defined_in.to_path_buf(),
        line: line_at(text, statement.at.start),
        span: statement.at.clone(),
    }
}

/// Whether an `allow-update` names anybody.
fn lets_update(statement: &Statement<'_>) -> bool {
    statement.inside.iter().any(|one| one.words != ["none"])
}

fn statements(text: &str) -> Vec<Statement<'_>> {
    let tokens = tokens(text);
    let mut at = 0;
    block(&tokens, &mut at, 0)
}

/// The statements up to the closing brace, or to the end. What has no `;` at the end counts as well.
fn block<'a>(tokens: &[Token<'a>], at: &mut usize, depth: usize) -> Vec<Statement<'a>> {
    let mut all = Vec::new();
    let mut open: Option<Statement<'a>> = None;
    while let Some(token) = tokens.get(*at) {
        *at += 1;
        match token.text {
            "}" if text_is_sign(token) => break,
            ";" if text_is_sign(token) => {
                if let Some(mut done) = open.take() {
                    done.at.end = token.at.end;
                    all.push(done);
                }
            }
            // What is deeper than any configuration is read flat.
            "{" if text_is_sign(token) && depth < DEEPEST => {
                let inside = block(tokens, at, depth + 1);
                let end = tokens.get(*at - 1).map_or(token.at.end, |closing| closing.at.end);
                let statement = open.get_or_insert_with(|| Statement { at: token.at.clone(), ..Statement::default() });
                statement.inside.extend(inside);
                statement.at.end = end;
            }
            word => {
                let statement = open.get_or_insert_with(|| Statement { at: token.at.clone(), ..Statement::default() });
                statement.words.push(word);
                statement.at.end = token.at.end;
            }
        }
    }
    all.extend(open);
    all
}

/// Whether it stands there as a sign, and not in quotes.
fn text_is_sign(token: &Token<'_>) -> bool {
    token.at.len() == 1
}

fn tokens(text: &str) -> Vec<Token<'_>> {
    let bytes = text.as_bytes();
    let (mut all, mut at) = (Vec::new(), 0);
    let end_of = |from: usize, what: &str| text[from..].find(what).map_or(text.len(), |found| from + found);
    while at < bytes.len() {
        let rest = &bytes[at..];
        match bytes[at] {
            b'#' => at = end_of(at, "\n"),
            b'/' if rest.starts_with(b"//") => at = end_of(at, "\n"),
            b'/' if rest.starts_with(b"/*") => at = (end_of(at + 2, "*/") + 2).min(text.len()),
            byte if byte.is_ascii_whitespace() => at += 1,
            b'{' | b'}' | b';' => {
                all.push(Token { text: &text[at..=at], at: at..at + 1 });
                at += 1;
            }
            b'"' => {
                let end = end_of(at + 1, "\"");
                all.push(Token { text: &text[at + 1..end], at: at..(end + 1).min(text.len()) });
                at = (end + 1).min(text.len());
            }
            _ => {
                let ends = |byte: &u8| byte.is_ascii_whitespace() || b"{};\"#".contains(byte);
                let end = rest.iter().position(ends).map_or(text.len(), |found| at + found);
                all.push(Token { text: &text[at..end], at: at..end });
                at = end;
            }
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(text: &str) -> Vec<DefinedZone> {
        zones(&[("/etc/bind/named.conf".into(), text.into())], Some(Path::new("/var/cache/bind")))
    }

    #[test]
    fn zones_are_read_with_file_kind_and_what_else_is_said_of_them() {
        let text = "// zone \"no.example\" { type primary; };\n/* zone x { */\nzone \"Gullrock.example.\" IN {\n\
                    \ttype master; # the yard's\n\tfile \"db.gullrock\";\n\tallow-transfer { 192.0.2.53; key \"q;}\"; };\n\
                    \tnotify yes;\n};\nzone choir.example { type slave; masters { 192.0.2.1; }; };\nzone \".\" { type hint; \
                    file \"/usr/share/dns/root.hints\"; };";
        let [yard, choir, hints] = &of(text)[..] else { panic!("{:?}", of(text)) };
        assert_eq!((yard.name.as_str(), yard.kind, yard.line), ("gullrock.example", ZoneKind::Primary, 3));
        assert_eq!(yard.file.as_deref(), Some(Path::new("/var/cache/bind/db.gullrock")));
        assert!(yard.manner.is_static());
        let span = &text[yard.span.clone()];
        assert!(span.starts_with("zone \"Gullrock.example.\" IN {") && span.ends_with("notify yes;\n};"), "{span}");
        assert_eq!((choir.kind, choir.file.as_deref()), (ZoneKind::Secondary, None));
        assert_eq!((hints.name.as_str(), hints.kind, hints.line), (".", ZoneKind::Other, 10));
    }

    #[test]
    fn who_changes_a_zone_is_known_from_its_options_and_from_those_for_all() {
        let words = |text: &str| of(text).iter().map(|zone| zone.manner.words()).collect::<Vec<_>>();
        let zone = |more: &str| format!("zone \"a.example\" {{ type primary; file \"a\"; {more} }};");
        assert_eq!(words(&zone("")), ["static"]);
        assert_eq!(words(&zone("allow-update { none; };")), ["static"]);
        assert_eq!(words(&zone("allow-update { key \"quay\"; };")), ["dynamic"]);
        assert_eq!(words(&zone("update-policy local;")), ["dynamic"]);
        assert_eq!(words(&zone("dnssec-policy default; inline-signing yes;")), ["signed"]);
        assert_eq!(words(&zone("update-policy { grant x zonesub any; }; dnssec-policy default;")), ["dynamic, signed"]);
        let all = |options: &str, more: &str| words(&format!("options {{ {options} }};\n{}", zone(more)));
        assert_eq!(all("dnssec-policy default;", ""), ["signed"]);
        assert_eq!(all("dnssec-policy default;", "dnssec-policy none;"), ["static"]);
        assert_eq!(all("allow-update { key q; };", ""), ["dynamic"]);
        let viewed = format!("view \"inside\" {{ match-clients {{ any; }}; {} }};", zone(""));
        assert_eq!(words(&viewed), ["in a view"]);
    }

    #[test]
    fn the_working_directory_of_the_options_counts_and_broken_text_ends_somewhere() {
        let text = "options { directory \"/srv/dns\"; };\nzone \"a.example\" { type primary; file \"a.zone\"; };";
        assert_eq!(of(text)[0].file.as_deref(), Some(Path::new("/srv/dns/a.zone")));
        for broken in [
            "zone",
            "zone {",
            "zone \"a",
            "}}}}",
            "/*",
            "zone a { file",
            "\"",
            "zone a {{{{",
            "#",
            "/",
            &"{".repeat(200_000),
        ] {
            let _ = of(broken);
        }
        assert_eq!(of("zone a.example { type primary; file \"/x\" }").len(), 1, "as far as it goes");
    }
}
