//! The zone list for BIND: one stanza a zone, in a file that `named.conf` includes.
//!
//! Adding a zone adds its stanza at the end and leaves the rest, hand edits included, as it is.

use std::path::Path;

use crate::name::Hostname;

const HEAD: &str = "// The zones of this harbor, included by the main file of the DNS server.\n";

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
pub fn names_zone(list: &str, zone: &Hostname) -> bool {
    let wanted = format!("zone \"{zone}\"");
    list.match_indices(&wanted).any(|(at, _)| {
        let line_start = list[..at].rfind('\n').map_or(0, |newline| newline + 1);
        list[line_start..at].trim().is_empty()
    })
}
