//! Zones in NSD's configuration: sections of keys, in lines (`nsd.conf(5)`).

use std::path::{Path, PathBuf};

use super::{DefinedZone, Item, Manner, ZoneKind, bare_name, from_folder, line_at};

pub(super) fn zones(files: &[(PathBuf, String)], directory: Option<&Path>) -> Vec<DefinedZone> {
    let read: Vec<(&PathBuf, &str, Vec<Item>)> =
        files.iter().map(|(file, text)| (file, text.as_str(), sections(text))).collect();
    let all = || read.iter().flat_map(|(_, _, sections)| sections);
    let folder = all().filter(|section| section.section == "server").find_map(|server| server.value("zonesdir"));
    let folder = folder.filter(|folder| !folder.is_empty()).map(Path::new).or(directory);
    let pattern = |name: &str| all().find(|section| section.section == "pattern" && section.is("name", name));
    let mut zones = Vec::new();
    for (file, text, sections) in &read {
        for zone in sections.iter().filter(|section| section.section == "zone") {
            let Some(domain) = zone.value("name") else { continue };
            let from_pattern = zone.value("include-pattern").and_then(pattern);
            let value = |key: &str| zone.value(key).or_else(|| from_pattern.and_then(|made| made.value(key)));
            let name = bare_name(domain);
            let named = value("zonefile").map(|file| file.replace("%s", &name)).filter(|file| !file.contains('%'));
            zones.push(DefinedZone {
                kind: if value("request-xfr").is_some() { ZoneKind::Secondary } else { ZoneKind::Primary },
                file: named.and_then(|file| from_folder(folder, &file)),
                manner: Manner::default(),
                defined_in: file.to_path_buf(),
                line: line_at(text, zone.at.start),
                span: zone.at.clone(),
                name,
            });
        }
    }
    zones
}

fn sections(text: &str) -> Vec<Item> {
    let mut all: Vec<Item> = Vec::new();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let (begin, end) = (at, at + line.len());
        at = end;
        let bare = line.split('#').next().unwrap_or_default().trim_end();
        let Some((key, value)) = bare.split_once(':') else { continue };
        let (key, value) = (key.trim(), value.trim());
        if value.is_empty() && !key.is_empty() {
            all.push(Item { section: key.into(), at: begin..end, ..Item::default() });
        } else if key == "include" {
            // Stands between sections, whatever the one before is.
        } else if let Some(section) = all.last_mut() {
            section.keys.push((key.into(), value.trim_matches('"').into()));
            section.at.end = end;
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn zones_are_read_with_what_their_pattern_gives_them() {
        let text = "server:\n  zonesdir: \"/etc/nsd/zones\"\npattern:\n  name: far\n  zonefile: \"%s.zone\"\n  request-xfr: \
                    192.0.2.1 NOKEY\nzone:\n  name: \"Gullrock.example\"\n  zonefile: \"g.zone\" # the yard's\n  provide-xfr: \
                    192.0.2.53 NOKEY\n  notify: 192.0.2.53 NOKEY\ninclude: \"/harbor/zones.conf\"\nzone:\n  name: \
                    choir.example\n  include-pattern: far\n";
        let all = zones(&[("/etc/nsd/nsd.conf".into(), text.into())], None);
        let [yard, choir] = &all[..] else { panic!("{all:?}") };
        assert_eq!((yard.name.as_str(), yard.kind, yard.line), ("gullrock.example", ZoneKind::Primary, 7));
        assert_eq!(yard.file.as_deref(), Some(Path::new("/etc/nsd/zones/g.zone")));
        let span = &text[yard.span.clone()];
        assert!(span.starts_with("zone:\n") && span.ends_with("notify: 192.0.2.53 NOKEY\n"), "{span}");
        assert_eq!(
            (choir.kind, choir.file.as_deref()),
            (ZoneKind::Secondary, Some(Path::new("/etc/nsd/zones/choir.example.zone")))
        );
    }
}
