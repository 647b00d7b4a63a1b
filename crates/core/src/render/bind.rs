//! Zone lists for BIND (`named.conf` grammar).

use std::collections::BTreeSet;
use std::fmt::Write;
use std::path::Path;

use super::zone_list::{OURS, Publication, Serving, quoted};
use crate::harbor::{DnsServer, Layout};
use crate::name::Hostname;

pub(super) fn index(layout: &Layout, publication: &Publication) -> String {
    let mut text =
        "// The zones of this harbor. `grep -r NAME` in the folder beside this file finds one.\n".to_string();
    if !publication.secondaries.is_empty() {
        // Several secondaries may share a key.
        let keys: BTreeSet<&str> = publication.secondaries.iter().map(|to| to.key.as_str()).collect();
        let keys = keys.iter().map(|key| format!("key \"{key}\"; ")).collect::<String>();
        let _ = writeln!(text, "acl \"{OURS}-transfer\" {{ {keys}}};");
        let _ = write!(text, "primaries \"{OURS}-secondaries\" {{ ");
        for to in &publication.secondaries {
            let _ = write!(text, "{} port {} key \"{}\"; ", to.address.ip(), to.address.port(), to.key);
        }
        text.push_str("};\n");
    }
    if let Some(catalog) = &publication.catalog {
        // Whoever may update the catalog has to read it first.
        let own = catalog.update_key.as_ref().map(|key| format!(" key \"{key}\";")).unwrap_or_default();
        let update = if own.is_empty() { String::new() } else { format!(" allow-update {{{own} }};") };
        let file = quoted(&layout.zone_file(&catalog.name));
        let published = published(!publication.secondaries.is_empty(), &own);
        let _ = writeln!(text, "zone \"{}\" {{ type primary; file {file};{published}{update} }};", catalog.name);
    }
    for part in layout.zone_list_parts(DnsServer::Bind) {
        let _ = writeln!(text, "include {};", quoted(&part));
    }
    text
}

pub(super) fn stanza(zone: &Hostname, file: &Path, serving: Serving<'_>) -> String {
    let (file, published) = (quoted(file), published(serving.published, ""));
    // The file stays as people write it: the signed form is kept beside it by the server.
    let signed = serving.signed_by.map(|policy| format!(" dnssec-policy \"{policy}\"; inline-signing yes;"));
    format!("zone \"{zone}\" {{ type primary; file {file};{published}{} }};\n", signed.unwrap_or_default())
}

/// Who gets the zone, beside the holders of further keys. Without secondaries the server's own options hold.
fn published(to_secondaries: bool, keys: &str) -> String {
    match (to_secondaries, keys) {
        (false, "") => String::new(),
        (false, keys) => format!(" allow-transfer {{{keys} }};"),
        (true, keys) => format!(
            " allow-transfer {{ \"{OURS}-transfer\";{keys} }}; notify yes; also-notify {{ \"{OURS}-secondaries\"; }};"
        ),
    }
}
