//! A definition of a zone moves, as it is written, from the server's own configuration into the zone list of the harbor;
//! and leaves that again with its zone.

use std::path::{Path, PathBuf};

use super::{DefinedZone, defined_zones};
use crate::harbor::DnsServer;
use crate::render::zone_list::zone_list_head;

/// The words above a definition that came from elsewhere.
const MOVED: &str = "moved here as it was written, from ";

fn comment(server: DnsServer) -> &'static str {
    if server == DnsServer::Bind { "//" } else { "#" }
}

/// The configuration without the definition; a comment says where it is.
pub fn without_definition(server: DnsServer, text: &str, defined: &DefinedZone, part: &Path) -> String {
    let (before, after) = (&text[..defined.span.start], &text[defined.span.end..]);
    // A comment reaches to the end of its line.
    let rest_of_line = after.split('\n').next().unwrap_or_default();
    let ends_line = text[..defined.span.end].ends_with('\n');
    let end = if ends_line || !rest_of_line.trim().is_empty() { "\n" } else { "" };
    let note = format!("{} The zone {} is kept by brightharbor: {}", comment(server), defined.name, part.display());
    format!("{before}{note}{end}{after}")
}

/// The part of the zone list with the definition at its end.
pub fn moved_definition(server: DnsServer, list: &str, configuration: &str, defined: &DefinedZone) -> String {
    let mut text = if list.is_empty() { zone_list_head(server) } else { list.to_string() };
    if !text.ends_with('\n') {
        text.push('\n');
    }
    text.push_str(&format!("{} {}, {MOVED}{}\n", comment(server), defined.name, defined.defined_in.display()));
    if server == DnsServer::Knot {
        text.push_str("zone:\n");
    }
    text.push_str(&configuration[defined.span.clone()]);
    if !text.ends_with('\n') {
        text.push('\n');
    }
    text
}

/// The part without a definition that was moved there; those written by hand stay.
pub(in crate::render) fn without_moved(server: DnsServer, list: &str, zone: &str) -> String {
    let defined = defined_zones(server, &[(PathBuf::new(), list.to_string())], None);
    let Some(defined) = defined.into_iter().find(|defined| defined.name == zone) else { return list.to_string() };
    let marker = format!("{} {zone}, {MOVED}", comment(server));
    let Some(at) = list[..defined.span.start].rfind(&marker) else { return list.to_string() };
    let between = list[at..defined.span.start].lines().skip(1);
    if between.map(str::trim).any(|line| !line.is_empty() && line != "zone:") {
        return list.to_string();
    }
    let after = &list[defined.span.end..];
    let after =
        if list[..defined.span.end].ends_with('\n') { after } else { after.strip_prefix('\n').unwrap_or(after) };
    list[..at].to_string() + after
}

/// The part without the definition of a zone that is read from `file`, whatever options somebody has added to it.
pub(in crate::render) fn without_defined(server: DnsServer, list: &str, zone: &str, file: &Path) -> String {
    let defined = defined_zones(server, &[(PathBuf::new(), list.to_string())], None);
    let mut ours = defined.iter().filter(|one| one.name == zone && one.file.as_deref() == Some(file));
    let Some(one) = ours.next() else { return list.to_string() };
    let (before, after) = (&list[..one.span.start], &list[one.span.end..]);
    // A section that has no item of its own besides goes as a whole.
    let alone = before.strip_suffix("zone:\n").filter(|_| server == DnsServer::Knot && !after.starts_with([' ', '-']));
    let after = if list[..one.span.end].ends_with('\n') { after } else { after.strip_prefix('\n').unwrap_or(after) };
    alone.unwrap_or(before).to_string() + after
}

#[cfg(test)]
mod tests {
    use super::*;

    const BIND: &str = "// local zones\nzone \"gullrock.example\" {\n\ttype master;\n\tfile \"db.gullrock\"; // by hand\n\tnotify \
                        no;\n};\nzone \"a.example\" { type primary; file \"/a\"; }; zone \"b.example\" { type primary; file \
                        \"/b\"; };\n";
    const KNOT: &str = "zone:\n  - domain: gullrock.example\n    file: g.zone\n    acl: q\n  - domain: a.example\n";
    const NSD: &str =
        "zone:\n  name: gullrock.example\n  zonefile: g.zone\n\nzone:\n  name: a.example\n  zonefile: a\n";

    fn find(server: DnsServer, text: &str, name: &str) -> DefinedZone {
        let all = defined_zones(server, &[("/etc/own.conf".into(), text.to_string())], None);
        all.into_iter().find(|zone| zone.name == name).unwrap()
    }

    fn names(server: DnsServer, text: &str) -> Vec<String> {
        defined_zones(server, &[(PathBuf::new(), text.to_string())], None).into_iter().map(|zone| zone.name).collect()
    }

    #[test]
    fn a_quote_that_does_not_end_names_no_zone() {
        let text = "zone \"gullrock.example\nzone \"lantern\" { type primary; };\n";
        let found = defined_zones(DnsServer::Bind, &[("/etc/named.conf".into(), text.into())], None);
        assert!(!found.iter().any(|zone| zone.name.contains(char::is_whitespace)), "{found:?}");
    }

    #[test]
    fn a_definition_moves_as_it_is_and_leaves_with_its_zone() {
        for (server, text, written) in [
            (DnsServer::Bind, BIND, "\tfile \"db.gullrock\"; // by hand\n\tnotify no;\n};\n"),
            (DnsServer::Knot, KNOT, "zone:\n  - domain: gullrock.example\n    file: g.zone\n    acl: q\n"),
            (DnsServer::Nsd, NSD, "zone:\n  name: gullrock.example\n  zonefile: g.zone\n"),
        ] {
            let defined = find(server, text, "gullrock.example");
            let without = without_definition(server, text, &defined, Path::new("/harbor/part.conf"));
            assert!(!names(server, &without).contains(&"gullrock.example".to_string()), "{without}");
            assert_eq!(names(server, &without).len(), names(server, text).len() - 1, "{without}");
            assert!(without.contains("kept by brightharbor: /harbor/part.conf\n"), "{without}");
            let other = moved_definition(server, "", text_of(server), &find(server, text_of(server), "a.example"));
            let list = moved_definition(server, &other, text, &defined);
            assert!(list.contains(written), "{list}");
            assert_eq!(names(server, &list), ["a.example", "gullrock.example"]);
            assert_eq!(without_moved(server, &list, "gullrock.example"), other);
            assert_eq!(names(server, &without_moved(server, &list, "a.example")), ["gullrock.example"]);
        }
    }

    fn text_of(server: DnsServer) -> &'static str {
        match server {
            DnsServer::Bind => BIND,
            DnsServer::Knot => KNOT,
            _ => NSD,
        }
    }

    #[test]
    fn what_shares_a_line_with_a_definition_is_not_lost_in_the_comment() {
        let defined = find(DnsServer::Bind, BIND, "a.example");
        let without = without_definition(DnsServer::Bind, BIND, &defined, Path::new("/p"));
        assert_eq!(names(DnsServer::Bind, &without), ["gullrock.example", "b.example"]);
        assert!(without.contains("kept by brightharbor: /p\n zone \"b.example\""), "{without}");
    }

    #[test]
    fn a_definition_that_was_not_moved_here_stays() {
        let by_hand = "// gullrock.example\nzone \"gullrock.example\" { type primary; file \"/x\"; };\n";
        assert_eq!(without_moved(DnsServer::Bind, by_hand, "gullrock.example"), by_hand);
        let apart = format!("// gullrock.example, {MOVED}/etc/x\n// but rewritten\n{}", &by_hand[20..]);
        assert_eq!(without_moved(DnsServer::Bind, &apart, "gullrock.example"), apart);
        assert_eq!(without_moved(DnsServer::Bind, "", "gullrock.example"), "");
    }

    #[test]
    fn a_definition_with_somebodys_own_lines_leaves_whole() {
        let file = Path::new("/harbor/zones/gullrock.example.zone");
        for (server, definition, other) in [
            (
                DnsServer::Bind,
                "zone \"gullrock.example\" {\n type primary;\n file \"/harbor/zones/gullrock.example.zone\";\n notify no; };\n",
                "zone \"a.example\" { type primary; file \"/a\"; };\n",
            ),
            (
                DnsServer::Knot,
                "zone:\n  - domain: gullrock.example\n    file: \"/harbor/zones/gullrock.example.zone\"\n    acl: own\n",
                "zone:\n  - domain: a.example\n    file: /a\n",
            ),
            (
                DnsServer::Nsd,
                "zone:\n\tname: gullrock.example\n\tzonefile: \"/harbor/zones/gullrock.example.zone\"\n\tnotify: x\n",
                "zone:\n\tname: a.example\n\tzonefile: /a\n",
            ),
        ] {
            for list in [format!("{definition}{other}"), format!("{other}{definition}")] {
                assert_eq!(without_defined(server, &list, "gullrock.example", file), other, "{list}");
                assert_eq!(without_defined(server, &list, "gullrock.example", Path::new("/x")), list);
            }
        }
    }
}
