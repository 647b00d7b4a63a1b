//! Zone lists for NSD (`nsd.conf`).

use std::fmt::Write;
use std::path::Path;

use super::zone_list::{OURS, Publication, quoted};
use crate::harbor::{DnsServer, Layout};
use crate::name::Hostname;

pub(super) fn index(layout: &Layout, publication: &Publication) -> String {
    let mut text = "# The zones of this harbor. `grep -r NAME` in the folder beside this file finds one.\n".to_string();
    let _ = write!(text, "pattern:\n\tname: \"{OURS}\"\n");
    for to in &publication.secondaries {
        let (ip, port, key) = (to.address.ip(), to.address.port(), &to.key);
        let _ = write!(text, "\tprovide-xfr: {ip} {key}\n\tnotify: {ip}@{port} {key}\n");
    }
    if let Some(catalog) = &publication.catalog {
        text.push_str(&stanza(&catalog.name, &layout.zone_file(&catalog.name)));
    }
    for part in layout.zone_list_parts(DnsServer::Nsd) {
        let _ = writeln!(text, "include: {}", quoted(&part));
    }
    text
}

pub(super) fn stanza(name: &Hostname, file: &Path) -> String {
    format!("zone:\n\tname: \"{name}\"\n\tzonefile: {}\n\tinclude-pattern: \"{OURS}\"\n", quoted(file))
}
