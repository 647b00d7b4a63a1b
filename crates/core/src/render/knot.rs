//! Zone lists for Knot DNS (its YAML-like configuration).

use std::collections::BTreeSet;
use std::fmt::Write;
use std::path::Path;

use super::zone_list::{OURS, Publication, quoted};
use crate::harbor::{DnsServer, Layout};
use crate::name::Hostname;

pub(super) fn index(layout: &Layout, publication: &Publication) -> String {
    let mut text = "# The zones of this harbor. `grep -r NAME` in the folder beside this file finds one.\n".to_string();
    let to = &publication.secondaries;
    if !to.is_empty() {
        text.push_str("remote:\n");
        for (number, to) in to.iter().enumerate() {
            let address = format!("{}@{}", to.address.ip(), to.address.port());
            let _ = write!(text, "  - id: {OURS}-{number}\n    address: {address}\n    key: {}\n", to.key);
        }
        // Several secondaries may share a key.
        let keys: BTreeSet<&str> = to.iter().map(|to| to.key.as_str()).collect();
        let keys = keys.into_iter().collect::<Vec<_>>().join(", ");
        let _ = write!(text, "acl:\n  - id: {OURS}-transfer\n    key: [{keys}]\n    action: transfer\n");
    }
    if let Some(key) = publication.catalog.as_ref().and_then(|catalog| catalog.update_key.as_ref()) {
        // Its own `acl` section: both may stand in one file.
        let _ = write!(text, "acl:\n  - id: {OURS}-update\n    key: {key}\n    action: [update, transfer]\n");
    }
    let _ = write!(text, "template:\n  - id: {OURS}\n");
    if !to.is_empty() {
        let remotes = (0..to.len()).map(|number| format!("{OURS}-{number}")).collect::<Vec<_>>().join(", ");
        let _ = write!(text, "    notify: [{remotes}]\n    acl: {OURS}-transfer\n");
    }
    if let Some(catalog) = &publication.catalog {
        text.push_str("zone:\n");
        text.push_str(&zone(&catalog.name, &layout.zone_file(&catalog.name)));
        let transfer = (!to.is_empty()).then(|| format!("{OURS}-transfer"));
        let update = catalog.update_key.as_ref().map(|_| format!("{OURS}-update"));
        let rules: Vec<String> = transfer.into_iter().chain(update).collect();
        if !rules.is_empty() {
            let _ = writeln!(text, "    acl: [{}]", rules.join(", "));
        }
    }
    for part in layout.zone_list_parts(DnsServer::Knot) {
        let _ = writeln!(text, "include: {}", quoted(&part));
    }
    text
}

pub(super) fn stanza(name: &Hostname, file: &Path, signed_by: Option<&str>) -> String {
    let mut text = format!("zone:\n{}", zone(name, file));
    if let Some(policy) = signed_by {
        text.push_str("    dnssec-signing: on\n");
        if policy != "default" {
            let _ = writeln!(text, "    dnssec-policy: {policy}");
        }
        // The file stays as people write it: the signed form is kept in the journal, under serials of the server's own.
        text.push_str("    zonefile-sync: -1\n    zonefile-load: difference-no-serial\n    journal-content: all\n");
    }
    text
}

fn zone(name: &Hostname, file: &Path) -> String {
    format!("  - domain: {name}\n    file: {}\n    template: {OURS}\n", quoted(file))
}
