//! What a server's own configuration serves already: the line that names a host or defines a zone. Reading the files is for
//! `brightharbor-io`; which files there are, for `include_walk`.

use crate::harbor::{DnsServer, WebServer};
use crate::name::{Host, Hostname};
use crate::site::STRANGERS;

use regex::RegexBuilder;

/// The line (from 1) of a web server's configuration that names the host: literally, or by a wildcard that covers it.
///
/// ```
/// use brightharbor_core::{harbor::WebServer, name::Host, render::site_line};
/// let text = "server {\n    listen 80;\n    server_name old.example\n        gullrock.example;\n}\n";
/// let host = Host::parse("gullrock.example").unwrap();
/// assert_eq!(site_line(WebServer::Nginx, text, &host), Some(4));
/// ```
pub fn site_line(server: WebServer, text: &str, host: &Host) -> Option<usize> {
    let names = |word: &str| match server {
        WebServer::Nginx => names_host(word, host) || matches_host(word, host),
        _ => names_host(word, host),
    };
    match server {
        WebServer::Nginx => {
            let mut inside = false;
            for (at, line) in text.lines().enumerate() {
                for word in without_comment(line).split_whitespace() {
                    let (bare, ends) = (word.trim_end_matches(';'), word.ends_with(';'));
                    if inside && names(bare) {
                        return Some(at + 1);
                    }
                    inside = (inside || bare == "server_name") && !ends;
                }
            }
            None
        }
        WebServer::Apache => text.lines().position(|line| {
            let mut words = without_comment(line).split_whitespace();
            let directive = words.next().unwrap_or_default().to_ascii_lowercase();
            ["servername", "serveralias"].contains(&directive.as_str()) && words.any(names)
        }),
        WebServer::StandIn | WebServer::None => None,
    }
    .map(|line| if server == WebServer::Apache { line + 1 } else { line })
}

/// Whether a word of a configuration stands for the host.
fn names_host(word: &str, host: &Host) -> bool {
    let word = word.trim_matches(['"', '\'']).to_ascii_lowercase();
    let word = word.split_once("://").map_or(word.as_str(), |(_, rest)| rest);
    let bare = word.rsplit_once(':').filter(|(_, port)| port.bytes().all(|byte| byte.is_ascii_digit()));
    let word = bare.map_or(word, |(name, _)| name);
    let Some(name) = host.name().map(Hostname::as_str) else { return word == host.as_str() };
    match (word.strip_prefix("*."), word.strip_prefix('.')) {
        (Some(parent), _) => name.strip_suffix(parent).is_some_and(|rest| rest.len() > 1 && rest.ends_with('.')),
        (None, Some(parent)) => name == parent || name.strip_suffix(parent).is_some_and(|rest| rest.ends_with('.')),
        (None, None) => word == name,
    }
}

/// Whether nginx's word is a pattern for the host: `gullrock.*`, or a regular expression after `~`. One that any name fits
/// is no site of the host's own, and one in a form that is not known here is left to the running server to tell.
fn matches_host(word: &str, host: &Host) -> bool {
    let Some(name) = host.name().map(Hostname::as_str) else { return false };
    let word = word.trim_matches(['"', '\'']);
    if let Some(start) = word.strip_suffix(".*") {
        let rest = name.strip_prefix(&start.to_ascii_lowercase());
        return rest.is_some_and(|rest| rest.len() > 1 && rest.starts_with('.'));
    }
    let Some(pattern) = word.strip_prefix('~') else { return false };
    // nginx compares without regard to case.
    let Ok(pattern) = RegexBuilder::new(pattern).case_insensitive(true).build() else { return false };
    pattern.is_match(name) && !STRANGERS.iter().all(|stranger| pattern.is_match(stranger))
}

/// The line (from 1) of a DNS server's configuration that defines the zone.
pub fn zone_line(server: DnsServer, text: &str, zone: &Hostname) -> Option<usize> {
    let defines = |line: &str| {
        let line = without_comment(line).split("//").next().unwrap_or_default();
        let words: Vec<String> = line
            .split([' ', '\t', '{', '"'])
            .filter(|word| !word.is_empty())
            .map(|word| word.trim_end_matches('.').to_ascii_lowercase())
            .collect();
        let key = match server {
            DnsServer::Bind => "zone",
            DnsServer::Knot => "domain:",
            DnsServer::Nsd => "name:",
            DnsServer::StandIn | DnsServer::None => return false,
        };
        words.windows(2).any(|pair| pair[0].trim_start_matches('-') == key && pair[1] == zone.as_str())
    };
    text.lines().position(defines).map(|line| line + 1)
}

/// The line (from 1) of Apache httpd's configuration that gives what CAs state of certificates a place. What stands in an
/// `IfDefine` may not be in force.
pub fn stapling_cache_line(text: &str) -> Option<usize> {
    let mut conditions = 0_usize;
    for (at, line) in text.lines().enumerate() {
        let mut words = without_comment(line).split_whitespace();
        match words.next().unwrap_or_default().to_ascii_lowercase().as_str() {
            "<ifdefine" => conditions += 1,
            "</ifdefine>" => conditions = conditions.saturating_sub(1),
            "sslstaplingcache" if conditions == 0 => {
                return words.next().filter(|place| !place.eq_ignore_ascii_case("none")).map(|_| at + 1);
            }
            _ => {}
        }
    }
    None
}

fn without_comment(line: &str) -> &str {
    line.split('#').next().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn host(text: &str) -> Host {
        Host::parse(text).unwrap()
    }

    #[test]
    fn a_host_is_found_by_its_name_by_an_alias_and_by_a_wildcard() {
        let nginx = "# server_name gullrock.example;\nserver { server_name a.example *.quay.example; }\n\
                     server { listen 443; server_name\n  .pier.example;\n root /gullrock.example; }\n";
        let at = |name: &str| site_line(WebServer::Nginx, nginx, &host(name));
        assert_eq!((at("gullrock.example"), at("a.example")), (None, Some(2)));
        assert_eq!((at("quay.example"), at("x.quay.example"), at("xquay.example")), (None, Some(2), None));
        assert_eq!((at("pier.example"), at("www.pier.example"), at("xpier.example")), (Some(4), Some(4), None));
        let apache = "<VirtualHost *:80>\n  servername https://gullrock.example:80\n  ServerAlias www.gullrock.example \
                      *.quay.example\n  # ServerAlias a.example\n</VirtualHost>\n";
        let at = |name: &str| site_line(WebServer::Apache, apache, &host(name));
        assert_eq!((at("gullrock.example"), at("www.gullrock.example")), (Some(2), Some(3)));
        assert_eq!((at("b.quay.example"), at("a.example")), (Some(3), None));
        let address = "server { server_name 192.0.2.10; }";
        assert_eq!(site_line(WebServer::Nginx, address, &host("192.0.2.10")), Some(1));
    }

    #[test]
    fn a_host_is_found_by_nginx_patterns_that_not_every_name_fits() {
        let at = |text: &str, name: &str| site_line(WebServer::Nginx, text, &host(name));
        let regex = "server { server_name ~^(?<who>[a-z]+)\\.Gullrock\\.example$; }";
        assert_eq!((at(regex, "crane.gullrock.example"), at(regex, "gullrock.example")), (Some(1), None));
        let quoted = "server {\n server_name x.example \"~^[a-z]{8}\\.example$\";\n}";
        assert_eq!((at(quoted, "gullrock.example"), at(quoted, "quay.example")), (Some(2), None));
        let end = "server { server_name gullrock.*; }";
        assert_eq!((at(end, "gullrock.example"), at(end, "gullrocks.example")), (Some(1), None));
        for any in ["server { server_name ~.; }", "server { server_name ~^(?!www); }", "server { server_name *; }"] {
            assert_eq!(at(any, "gullrock.example"), None, "{any}");
        }
        assert_eq!(site_line(WebServer::Apache, "ServerName ~gullrock", &host("gullrock.example")), None);
    }

    #[test]
    fn the_place_of_staples_is_found_where_it_is_in_force() {
        let debian =
            "<IfModule mod_ssl.c>\n\t#SSLStaplingCache shmcb:${APACHE_RUN_DIR}/ssl_stapling(32768)\n</IfModule>\n";
        assert_eq!(stapling_cache_line(debian), None, "it is a comment there");
        assert_eq!(stapling_cache_line(&debian.replace('#', "")), Some(2));
        assert_eq!(stapling_cache_line("sslstaplingcache dbm:/run/staples\n"), Some(1));
        assert_eq!(stapling_cache_line("SSLStaplingCache none\n"), None);
        let switched = "<IfDefine STAPLES>\nSSLStaplingCache shmcb:a(9)\n</IfDefine>\n";
        assert_eq!(stapling_cache_line(switched), None);
        assert_eq!(stapling_cache_line(&format!("{switched}SSLStaplingCache shmcb:b(9)\n")), Some(4));
    }

    #[test]
    fn a_zone_is_found_by_its_definition_and_not_by_its_name_elsewhere() {
        let zone = Hostname::parse("gullrock.example").unwrap();
        let bind = "// zone \"gullrock.example\" {\noptions { directory \"gullrock.example\"; };\nzone \"Gullrock.example.\" IN {\n";
        assert_eq!(zone_line(DnsServer::Bind, bind, &zone), Some(3));
        assert_eq!(zone_line(DnsServer::Knot, "zone:\n  - domain: gullrock.example\n", &zone), Some(2));
        assert_eq!(zone_line(DnsServer::Nsd, "zone:\n    name: \"gullrock.example\"\n", &zone), Some(2));
        assert_eq!(zone_line(DnsServer::Bind, "zone \"www.gullrock.example\" {\n", &zone), None);
    }
}
