//! Zones in Knot DNS's configuration: sections of items with keys, in lines (the YAML subset of its reference manual).

use std::path::{Path, PathBuf};

use super::{DefinedZone, Item, Manner, ZoneKind, bare_name, from_folder, line_at};

pub(super) fn zones(files: &[(PathBuf, String)], directory: Option<&Path>) -> Vec<DefinedZone> {
    let read: Vec<(&PathBuf, &str, Vec<Item>)> =
        files.iter().map(|(file, text)| (file, text.as_str(), items(text))).collect();
    let of_section =
        |section: &'static str| read.iter().flat_map(|(_, _, items)| items).filter(move |item| item.section == section);
    let template = |id: &str| of_section("template").find(|item| item.is("id", id));
    let updates: Vec<&str> = of_section("acl")
        .filter(|item| item.value("action").is_some_and(|action| action.contains("update")))
        .filter_map(|item| item.value("id"))
        .collect();
    let mut zones = Vec::new();
    for (file, text, items) in &read {
        for item in items.iter().filter(|item| item.section == "zone") {
            let Some(domain) = item.value("domain") else { continue };
            let made_by = template(item.value("template").unwrap_or("default"));
            let value = |key: &str| item.value(key).or_else(|| made_by.and_then(|made| made.value(key)));
            let kind = match (value("master"), value("catalog-role")) {
                (_, Some("generate" | "interpret")) => ZoneKind::Other,
                (Some(_), _) => ZoneKind::Secondary,
                (None, _) => ZoneKind::Primary,
            };
            let acl = value("acl").unwrap_or_default();
            let manner = Manner {
                dynamic: acl.split([',', '[', ']', ' ']).any(|id| updates.contains(&id)),
                signed: value("dnssec-signing") == Some("on"),
                in_view: false,
            };
            let name = bare_name(domain);
            let storage = value("storage").map(Path::new).or(directory).unwrap_or(Path::new("/var/lib/knot"));
            let named = value("file").unwrap_or("%s.zone").replace("%s", &name);
            zones.push(DefinedZone {
                kind,
                file: (!named.contains('%')).then(|| from_folder(Some(storage), &named)).flatten(),
                manner,
                defined_in: file.to_path_buf(),
                line: line_at(text, item.at.start),
                span: item.at.clone(),
                name,
            });
        }
    }
    zones
}

fn items(text: &str) -> Vec<Item> {
    let (mut all, mut section): (Vec<Item>, String) = (Vec::new(), String::new());
    let mut open = false;
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let (begin, end) = (at, at + line.len());
        at = end;
        let bare = line.split('#').next().unwrap_or_default().trim_end();
        let Some((key, value)) = bare.split_once(':') else { continue };
        if !bare.starts_with([' ', '\t', '-']) {
            (section, open) = (key.trim().to_string(), false);
            continue;
        }
        let (key, value) = (key.trim(), value.trim().trim_matches('"').to_string());
        if let Some(first) = key.strip_prefix('-') {
            let keys = vec![(first.trim().to_string(), value)];
            all.push(Item { section: section.clone(), keys, at: begin..end });
            open = true;
        } else if let Some(item) = all.last_mut().filter(|_| open) {
            item.keys.push((key.to_string(), value));
            item.at.end = end;
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    const MAIN: &str = "server:\n    listen: 127.0.0.1@53\nacl:\n  - id: told\n    action: [update, transfer]\n  - id: looked\n    \
                        action: transfer\ntemplate:\n  - id: default\n    storage: \"/srv/zones\"\n  - id: safe\n    \
                        dnssec-signing: on\nzone:\n  - domain: Gullrock.example.  # the yard's\n    acl: looked\n    \
                        semantic-checks: on\n  - domain: choir.example\n    master: far\n    file: c.db\n\
                        # - domain: no.example\n  - domain: safe.example\n    template: safe\n  - domain: live.example\n    \
                        acl: [looked, told]\n";

    #[test]
    fn zones_are_read_with_what_their_templates_give_them() {
        let all = zones(&[("/etc/knot/knot.conf".into(), MAIN.into())], None);
        let names: Vec<(&str, ZoneKind, &str)> =
            all.iter().map(|zone| (zone.name.as_str(), zone.kind, zone.manner.words())).collect();
        assert_eq!(
            names,
            [
                ("gullrock.example", ZoneKind::Primary, "static"),
                ("choir.example", ZoneKind::Secondary, "static"),
                ("safe.example", ZoneKind::Primary, "signed"),
                ("live.example", ZoneKind::Primary, "dynamic"),
            ]
        );
        let files: Vec<_> = all.iter().map(|zone| zone.file.as_ref().unwrap().display().to_string()).collect();
        assert_eq!(files[..2], ["/srv/zones/gullrock.example.zone", "/srv/zones/c.db"]);
        assert_eq!(files[2], "/var/lib/knot/safe.example.zone", "its template has no storage");
        assert_eq!((all[0].line, all[1].line), (14, 17));
        let span = &MAIN[all[0].span.clone()];
        assert!(span.starts_with("  - domain: Gullrock") && span.ends_with("semantic-checks: on\n"), "{span}");
    }
}
