//! Zone lists for BIND (`named.conf` grammar).

use std::fmt::Write;
use std::path::Path;

use super::zone_list::{OURS, Publication, quoted};
use crate::harbor::{DnsServer, Layout};
use crate::name::Hostname;

pub(super) fn index(layout: &Layout, publication: &Publication) -> String {
    let mut text =
        "// The zones of this harbor. `grep -r NAME` in the folder beside this file finds one.\n".to_string();
    if !publication.secondaries.is_empty() {
        let keys = publication.secondaries.iter().map(|to| format!("key \"{}\"; ", to.key)).collect::<String>();
        let _ = writeln!(text, "acl \"{OURS}-transfer\" {{ {keys}}};");
        let _ = write!(text, "primaries \"{OURS}-secondaries\" {{ ");
        for to in &publication.secondaries {
            let _ = write!(text, "{} port {} key \"{}\"; ", to.address.ip(), to.address.port(), to.key);
        }
        text.push_str("};\n");
    }
    if let Some(catalog) = &publication.catalog {
        let update = catalog.update_key.as_ref().map(|key| format!(" allow-update {{ key \"{key}\"; }};"));
        let file = quoted(&layout.zone_file(&catalog.name));
        let (published, update) = (published(!publication.secondaries.is_empty()), update.unwrap_or_default());
        let _ = writeln!(text, "zone \"{}\" {{ type primary; file {file};{published}{update} }};", catalog.name);
    }
    for part in layout.zone_list_parts(DnsServer::Bind) {
        let _ = writeln!(text, "include {};", quoted(&part));
    }
    text
}

pub(super) fn stanza(zone: &Hostname, file: &Path, to_secondaries: bool) -> String {
    let file = quoted(file);
    format!("zone \"{zone}\" {{ type primary; file {file};{} }};\n", published(to_secondaries))
}

/// Without secondaries in the settings the server's own options hold.
fn published(to_secondaries: bool) -> String {
    match to_secondaries {
        false => String::new(),
        true => format!(" allow-transfer {{ \"{OURS}-transfer\"; }}; also-notify {{ \"{OURS}-secondaries\"; }};"),
    }
}
