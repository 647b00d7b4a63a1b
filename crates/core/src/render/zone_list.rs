//! The zone list of a DNS server: one stanza a zone, in parts that an index includes, which the server's own main file
//! includes. What differs between the servers is in `bind`, `knot` and `nsd`.
//!
//! Adding a zone adds its stanza at the end and leaves the rest, hand edits included, as it is. Stanzas only name what
//! the index defines, so that another secondary server changes the index alone.

use std::net::SocketAddr;
use std::path::Path;

use super::defined::{without_defined, without_moved};
use super::{bind, knot, nsd};
use crate::harbor::{DnsServer, Layout};
use crate::name::Hostname;

/// The name under which the index defines what zones have in common.
pub(super) const OURS: &str = "brightharbor";

/// Who gets the zones by transfer, and the catalog zone that names them (RFC 9432).
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Publication {
    pub secondaries: Vec<PublishedTo>,
    pub catalog: Option<CatalogStanza>,
}

/// A secondary server with the name of the key that it asks with; the server knows the key itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PublishedTo {
    pub address: SocketAddr,
    pub key: String,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CatalogStanza {
    pub name: Hostname,
    /// The key that it takes updates with, where it is changed by UPDATE.
    pub update_key: Option<String>,
}

/// The file that the DNS server's main file includes; empty for a server that reads no list.
pub fn zone_index(server: DnsServer, layout: &Layout, publication: &Publication) -> String {
    match server {
        DnsServer::Bind => bind::index(layout, publication),
        DnsServer::Knot => knot::index(layout, publication),
        DnsServer::Nsd => nsd::index(layout, publication),
        DnsServer::StandIn | DnsServer::None => String::new(),
    }
}

/// Whether an index defines secondaries, so that stanzas may name them.
pub fn is_published(index: &str) -> bool {
    index.contains(&format!("{OURS}-secondaries"))
}

/// What an empty part of the list holds.
pub fn zone_list_head(server: DnsServer) -> String {
    let comment = if server == DnsServer::Bind { "//" } else { "#" };
    format!("{comment} A part of the zones of this harbor: by the hash of the name, so that each part stays short.\n")
}

/// How the server is to serve a zone, beside from which file.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Serving<'a> {
    /// To the secondaries that the index defines.
    pub published: bool,
    /// Signed by the server, by this policy of its own configuration.
    pub signed_by: Option<&'a str>,
}

/// The stanza of one zone, as it stands in a part of the list.
pub fn zone_stanza(server: DnsServer, zone: &Hostname, file: &Path, serving: Serving<'_>) -> String {
    match server {
        DnsServer::Bind => bind::stanza(zone, file, serving),
        DnsServer::Knot => knot::stanza(zone, file, serving.signed_by),
        DnsServer::Nsd => nsd::stanza(zone, file),
        DnsServer::StandIn | DnsServer::None => String::new(),
    }
}

/// The part with one more zone; unchanged if it names the zone already.
pub fn with_zone(server: DnsServer, list: &str, zone: &Hostname, file: &Path, serving: Serving<'_>) -> String {
    if names_zone(server, list, zone) {
        return list.to_string();
    }
    let mut text = if list.is_empty() { zone_list_head(server) } else { list.to_string() };
    if !text.ends_with('\n') {
        text.push('\n');
    }
    text + &zone_stanza(server, zone, file, serving)
}

/// The part without a zone's stanza: as it was written here or moved here, or with lines of somebody's own, as long as it is
/// that of the harbor's file. One by hand for another file stays.
pub fn without_zone(server: DnsServer, list: &str, zone: &Hostname, file: &Path, signed_by: Option<&str>) -> String {
    let mut text = list.to_string();
    for published in [true, false] {
        let written = zone_stanza(server, zone, file, Serving { published, signed_by });
        text = with_stanza(&text, &written, "").unwrap_or(text);
    }
    without_defined(server, &without_moved(server, &text, zone.as_str()), zone.as_str(), file)
}

/// The list with another stanza in the place of one; `None` where it has none that is just like it. One that goes on, with
/// lines that somebody has added, is another.
fn with_stanza(list: &str, old: &str, new: &str) -> Option<String> {
    let at = list.match_indices(old).map(|(at, _)| at).find(|at| {
        let (before, after) = (&list[..*at], &list[at + old.len()..]);
        (before.is_empty() || before.ends_with('\n')) && !after.starts_with([' ', '\t'])
    })?;
    Some(format!("{}{new}{}", &list[..at], &list[at + old.len()..]))
}

/// The part in which the server signs the zone as `now` says, and not as `before`; `None` where its stanza is none that
/// this program wrote.
pub fn signed_anew(
    server: DnsServer,
    list: &str,
    zone: &Hostname,
    file: &Path,
    before: Option<&str>,
    now: Option<&str>,
) -> Option<String> {
    [false, true].into_iter().find_map(|published| {
        let old = zone_stanza(server, zone, file, Serving { published, signed_by: before });
        let new = zone_stanza(server, zone, file, Serving { published, signed_by: now });
        with_stanza(list, &old, &new)
    })
}

/// A part in which the stanzas that this program wrote are as they are written now; hand-made ones stay.
pub fn republished(
    server: DnsServer,
    list: &str,
    zones: &[(Hostname, std::path::PathBuf, Option<String>)],
    published: bool,
) -> String {
    let mut text = list.to_string();
    for (zone, file, signed_by) in zones {
        let stanza =
            |published| zone_stanza(server, zone, file, Serving { published, signed_by: signed_by.as_deref() });
        text = with_stanza(&text, &stanza(!published), &stanza(published)).unwrap_or(text);
    }
    text
}

/// Whether the list has a stanza for the zone, written by this program or by hand.
fn names_zone(server: DnsServer, list: &str, zone: &Hostname) -> bool {
    let opening = match server {
        DnsServer::Bind => "zone",
        DnsServer::Knot => "- domain:",
        _ => "name:",
    };
    list.lines().filter_map(|line| line.trim_start().strip_prefix(opening)).any(|rest| {
        let name = rest.trim_start().trim_start_matches('"');
        let end = name.find(|c: char| c == '"' || c == '{' || c.is_whitespace()).unwrap_or(name.len());
        name[..end].trim_end_matches('.').eq_ignore_ascii_case(zone.as_str())
    })
}

/// A path in double quotes, as all three servers read it.
pub(super) fn quoted(path: &Path) -> String {
    format!("\"{}\"", path.to_string_lossy().replace('\\', "\\\\").replace('"', "\\\""))
}
