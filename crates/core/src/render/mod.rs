//! Server files from the site model: text only, one writer a server, each with its own escaping.
//!
//! All writers take the same [`Served`] view of a site, so that the servers behave alike.

mod apache;
mod apache_parts;
mod bind;
mod control_orders;
mod defined;
mod found_in;
mod host_plan;
mod include_lines;
mod include_walk;
mod knot;
mod listeners;
mod modules;
mod nginx;
mod nginx_parts;
mod nsd;
mod parts;
mod plain;
mod pool;
mod starter;
mod unknown_hosts;
mod zone_checks;
mod zone_list;

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

use crate::change::content_hash;
use crate::harbor::{Layout, Php, Settings, WebServer};
use crate::name::Host;
use crate::redirect::Redirect;
use crate::site::{Site, SiteLogs, SiteRules};

pub use control_orders::{configuration_check, load_orders, parent_orders, taken_back, unsigned_orders};
pub use defined::{DefinedZone, Manner, ZoneKind, defined_zones, moved_definition, without_definition};
pub use found_in::{site_line, stapling_cache_line, zone_line};
pub use include_walk::{IncludeAsk, IncludeWalk};
pub use listeners::{Clash, ClashKind, clash};
pub use modules::{missing_for_programs, missing_modules, modules_question};
pub use parts::{LATE, PROGRAM_WORDS, UNANSWERED, is_script, upstream_of};
pub use plain::{PlainHost, PlainPart, PlainRedirect, PlainSite};
pub use pool::{Pool, is_pool_as_written, pool_file};
pub use starter::{STARTER_MARK, starter_page};
pub use unknown_hosts::{can_refuse, refuses_https, unknown_hosts};
pub use zone_checks::{CheckOfMany, check_of_many, check_words, one_of_each_kind};
pub use zone_list::{
    CatalogStanza, Publication, PublishedTo, Serving, is_published, republished, signed_anew, with_zone, without_zone,
    zone_index, zone_list_head, zone_stanza,
};

/// Where the CA fetches a proof from (RFC 8555 section 8.3); never redirected.
pub const PROOF_PATH: &str = "/.well-known/acme-challenge/";
/// Where every site answers with the fingerprint of the configuration that is loaded; never redirected.
pub const FINGERPRINT_PATH: &str = "/.well-known/bright-harbor";

/// Paths with a part that begins with a dot are no pages: `.git`, `.env`, `.htpasswd`. Beside what RFC 8615 has at the top,
/// nothing of them is served. Both servers read the same expression.
const HIDDEN: &str = "^/(?:[.](?!well-known/)|.*/[.])";

/// Whether a path, decoded, is one of those.
pub fn is_hidden(path: &str) -> bool {
    let below = path.strip_prefix("/.well-known/").map_or(path, |below| below);
    below.starts_with('.') || below.contains("/.")
}

/// What visitors read where there is no page: the same from every server, whatever its own words would be.
pub const WORDS: [(&str, &[u16], &str); 4] = [
    ("moved", &[301, 302, 307, 308], "This page has moved."),
    ("closed", &[403], "This page is not shown."),
    ("missing", &[404], "There is no such page here."),
    ("read-alone", &[405], "This page can only be read."),
];

/// For TLS 1.2: forward secrecy and authenticated encryption alone (RFC 9325 section 4.2). TLS 1.3 has no others.
const TLS12_CIPHERS: &str = "ECDHE+AESGCM:ECDHE+CHACHA20";

/// For TLS 1.3 alone: below it, suites for keys that both sides share beforehand (RFC 4279), which nobody has here.
const NO_TLS12_CIPHERS: &str = "PSK+AESGCM";

/// Everything a writer needs to know about one site.
pub struct Served<'a> {
    pub site: &'a Site,
    /// The addresses to listen on; empty: all.
    pub listen: &'a [IpAddr],
    pub ipv6: bool,
    pub http_port: u16,
    pub https_port: u16,
    pub proofs: &'a Path,
    /// The versions of PHP that have pools of the accounts.
    pub php: &'a BTreeMap<String, Php>,
    pub fingerprint: String,
    /// Where the site's own directives lie, if it has any.
    pub own: Option<PathBuf>,
    /// Where the passwords for guarded paths lie.
    pub layout: &'a Layout,
    /// Where it is logged, if not with everything else.
    pub logs: Option<SiteLogs>,
}

/// Whether a text has the form of a fingerprint: a site of this program answers with it.
pub fn is_fingerprint(text: &str) -> bool {
    text.len() == 32 && text.bytes().all(|byte| byte.is_ascii_hexdigit())
}

/// The fingerprint of a site's configuration. A server that answers with it has loaded this very configuration, so
/// it serves from this document root. Being a hash, it gives nothing away; whoever guesses all of it can confirm the guess.
pub fn fingerprint(site: &Site) -> String {
    let mut text = format!("{}\n{}\n{}\n", site.account, site.document_root.display(), https_text(site));
    for hostname in &site.hostnames {
        text.push_str(hostname.as_str());
        text.push('\n');
    }
    if let Some(files) = &site.certificate {
        text.push_str(&files.folder.to_string_lossy());
    }
    // How the next certificate is got says nothing about what is served.
    let rules = SiteRules { certificate: Box::default(), demands: vec![], ..site.rules.clone() };
    if rules != SiteRules::default() {
        text.push_str(&serde_json::to_string(&rules).expect("plain values become JSON"));
    }
    for (path, _, name) in site.demanded_files() {
        text.push_str(&format!("\n{path} {name}"));
    }
    content_hash(text.as_bytes())[..32].to_string()
}

/// Which hosts are sent to https, and whether there is https at all.
fn https_text(site: &Site) -> String {
    let forced: Vec<&str> = site.hostnames.iter().filter(|host| site.is_forced(host)).map(Host::as_str).collect();
    match (forced.len(), &site.certificate) {
        (0, None) => "None".into(),
        (0, Some(_)) => "Offered".into(),
        (count, _) if count == site.hostnames.len() => "Forced".into(),
        _ => format!("Forced for {}", forced.join(" ")),
    }
}

/// The web server file of a site; `None` where the harbor drives no web server.
pub fn site_file(site: &Site, settings: &Settings, layout: &Layout) -> Option<String> {
    let proofs = layout.proofs();
    let served = Served {
        site,
        listen: &settings.web.listen,
        ipv6: settings.host.addresses.iter().any(IpAddr::is_ipv6),
        http_port: settings.internet.http_port(),
        https_port: settings.internet.https_port(),
        proofs: &proofs,
        php: &settings.php,
        fingerprint: fingerprint(site),
        layout,
        logs: settings.sites.logs.as_deref().map(|folder| SiteLogs::of(folder, site)),
        own: layout.own_directives(settings.web.server, site.main()).filter(|_| site.rules.content.own.is_some()),
    };
    let body = match settings.web.server {
        WebServer::Nginx => nginx::render(&served),
        WebServer::Apache => apache::render(&served),
        WebServer::StandIn => return Some(plain::render(&served)),
        WebServer::None => return None,
    };
    Some(signed(&format!("the site {}. Change it by commands;", site.main()), &body))
}

/// A file with the first line by which it is known again.
fn signed(whom: &str, body: &str) -> String {
    let hash = &content_hash(body.as_bytes())[..16];
    format!("{WRITTEN}{whom} its content is {hash}.\n{body}")
}

const WRITTEN: &str = "# Written by brightharbor for ";

/// Whether a site's file is as it was written: its first line says what the others were.
pub fn is_as_written(file: &[u8]) -> bool {
    let text = String::from_utf8_lossy(file);
    let Some((first, body)) = text.split_once('\n').filter(|(first, _)| first.starts_with(WRITTEN)) else {
        // The stand-in's files have no comments.
        return text.starts_with('{');
    };
    let hash = first.trim_end_matches('.').rsplit(' ').next().unwrap_or_default();
    content_hash(body.as_bytes()).starts_with(hash) && hash.len() == 16
}

/// The rule of one redirect, as it stands in the server's file.
pub fn redirect_rule(redirect: &Redirect, server: WebServer) -> Option<String> {
    match server {
        WebServer::Nginx => Some(nginx::redirect_rule(redirect)),
        WebServer::Apache => Some(apache::redirect_rule(redirect)),
        WebServer::StandIn | WebServer::None => None,
    }
}

impl Served<'_> {
    /// `HOST` or `HOST:PORT` for a URL.
    fn authority(&self, host: &str, tls: bool) -> String {
        let (port, usual) = if tls { (self.https_port, 443) } else { (self.http_port, 80) };
        if port == usual { host.to_string() } else { format!("{host}:{port}") }
    }

    /// The files that sellers demand: the path of each, and where it lies.
    fn demanded(&self) -> impl Iterator<Item = (&str, PathBuf)> {
        self.site.demanded_files().map(|(path, _, name)| (path, self.proofs.join(name)))
    }

    /// The address of a site without a name, where it is the only one that its https is served at: a handshake there
    /// names no host (RFC 6066 section 3), so that there can be no other.
    fn nameless_at(&self) -> Option<IpAddr> {
        self.site.main().address().filter(|address| self.listen.contains(address))
    }
}

#[cfg(test)]
mod tests;
