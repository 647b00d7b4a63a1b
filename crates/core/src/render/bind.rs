//! The zone list for BIND: one stanza a zone, in parts that an index includes, which `named.conf` includes.
//!
//! Adding a zone adds its stanza at the end and leaves the rest, hand edits included, as it is.

use std::path::Path;

use crate::harbor::Layout;
use crate::name::Hostname;

const HEAD: &str = "// A part of the zones of this harbor: by the hash of the name, so that each part stays short.\n";

/// The file that the DNS server's main file includes.
pub fn zone_index(layout: &Layout) -> String {
    let mut text =
        "// The zones of this harbor. `grep -r NAME` in the folder beside this file finds one.\n".to_string();
    for part in layout.zone_list_parts() {
        text.push_str(&format!("include \"{}\";\n", part.display()));
    }
    text
}

/// What an empty part of the list holds.
pub fn zone_list_head() -> &'static str {
    HEAD
}

/// The zone list with one more zone; unchanged if it names the zone already.
pub fn with_zone(list: &str, zone: &Hostname, file: &Path) -> String {
    if names_zone(list, zone) {
        return list.to_string();
    }
    let mut text = if list.is_empty() { HEAD.to_string() } else { list.to_string() };
    if !text.ends_with('\n') {
        text.push('\n');
    }
    let file = file.to_string_lossy().replace('\\', "\\\\").replace('"', "\\\"");
    text.push_str(&format!("zone \"{zone}\" {{ type primary; file \"{file}\"; }};\n"));
    text
}

/// Whether the list has a stanza for the zone.
fn names_zone(list: &str, zone: &Hostname) -> bool {
    let wanted = format!("zone \"{zone}\"");
    list.match_indices(&wanted).any(|(at, _)| {
        let line_start = list[..at].rfind('\n').map_or(0, |newline| newline + 1);
        list[line_start..at].trim().is_empty()
    })
}
