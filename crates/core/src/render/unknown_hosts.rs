//! The file for visitors who ask for a host that nobody has here, or for none: it is read before those of all sites with a
//! name, so that a server takes none of them for its first. They are shown no page and no certificate.
//!
//! Where a configuration of somebody else says who answers then, that stays so: no `default_server` is claimed.

use std::fmt::Write;
use std::net::IpAddr;
use std::path::Path;

use super::{NO_TLS12_CIPHERS, TLS12_CIPHERS, WORDS, apache, nginx, signed};
use crate::harbor::{Settings, WebServer};

/// A name that cannot be registered (RFC 2606 section 2).
const NOBODY: &str = "unknown.invalid";

/// The text of the file; `None` where this harbor drives no web server. `refusing`: https is answered as well, by refusing
/// the handshake. Apache httpd needs a key and a certificate for that, in this file, which no visitor ever sees.
pub fn unknown_hosts(settings: &Settings, refusing: Option<&Path>) -> Option<String> {
    let (_, _, missing) = WORDS.iter().find(|(name, ..)| *name == "missing")?;
    let (http, https) = (settings.internet.http_port(), settings.internet.https_port());
    let ipv6 = settings.host.addresses.iter().any(IpAddr::is_ipv6);
    let mut text = String::new();
    match settings.web.server {
        WebServer::Nginx => {
            let listening = |text: &mut String, port: u16, suffix: &str| {
                for address in nginx::listen_addresses(&settings.web.listen, ipv6) {
                    let _ = writeln!(text, "    listen {address}:{port}{suffix};");
                }
                let _ = writeln!(text, "    server_name {NOBODY};");
            };
            text.push_str("server {\n");
            listening(&mut text, http, "");
            let _ = writeln!(text, "    default_type text/plain;\n    return 404 \"{missing}\";\n}}");
            if refusing.is_some() {
                text.push_str("server {\n");
                listening(&mut text, https, " ssl http2");
                let _ = writeln!(text, "    ssl_protocols TLSv1.2 TLSv1.3;\n    ssl_ciphers {TLS12_CIPHERS};");
                text.push_str("    ssl_reject_handshake on;\n}\n");
            }
        }
        WebServer::Apache => {
            let opening = |port: u16| {
                let places = apache::places(&settings.web.listen, port);
                format!("<VirtualHost {places}>\n    ServerName {NOBODY}\n")
            };
            let _ = writeln!(text, "{}    ErrorDocument 404 \"{missing}\"", opening(http));
            text.push_str("    RewriteEngine on\n    RewriteRule ^ - [R=404,L]\n</VirtualHost>\n");
            if let Some(pair) = refusing {
                // No version and no cipher suite is left over for both sides.
                let _ = writeln!(text, "{}    SSLEngine on\n    SSLProtocol -all +TLSv1.2", opening(https));
                let _ = writeln!(text, "    SSLCipherSuite {NO_TLS12_CIPHERS}");
                let _ = writeln!(text, "    SSLCertificateFile \"{}\"\n</VirtualHost>", pair.display());
            }
        }
        WebServer::StandIn | WebServer::None => return None,
    }
    Some(signed("hosts that nobody has here;", &text))
}

/// Whether such a file answers https as well.
pub fn refuses_https(file: &[u8]) -> bool {
    [&b"ssl_reject_handshake"[..], b"SSLEngine"].iter().any(|sign| memchr::memmem::find(file, sign).is_some())
}

/// Whether a server can refuse a handshake, by what it says of itself (`nginx -V`): nginx from 1.19.4 on.
pub fn can_refuse(server: WebServer, told: &str) -> bool {
    let version = || {
        let (_, rest) = told.split_once("nginx version: ")?;
        let number = rest.split_whitespace().next()?.rsplit('/').next()?;
        let parts = number.split('.').map(|part| part.parse().ok()).collect::<Option<Vec<u32>>>()?;
        Some(parts >= vec![1, 19, 4])
    };
    match server {
        WebServer::Nginx => version().unwrap_or(false),
        WebServer::Apache => true,
        WebServer::StandIn | WebServer::None => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::render::is_as_written;

    #[test]
    fn nginx_says_by_its_version_whether_it_can_refuse() {
        for (told, can) in [
            ("nginx version: nginx/1.22.1\nbuilt with OpenSSL", true),
            ("nginx version: nginx/1.19.4", true),
            ("nginx version: nginx/1.19.3", false),
            ("nginx version: nginx/1.9.20 (Quay)", false),
            ("nginx version: other/2.0.0", true),
            ("nginx version: nginx/one", false),
            ("", false),
        ] {
            assert_eq!(can_refuse(WebServer::Nginx, told), can, "{told}");
        }
    }

    #[test]
    fn https_is_answered_only_where_that_is_asked_for() {
        let mut settings = Settings::default();
        for server in [WebServer::Nginx, WebServer::Apache] {
            settings.web.server = server;
            let plain = unknown_hosts(&settings, None).unwrap();
            let both = unknown_hosts(&settings, Some(Path::new("/harbor/pair.pem"))).unwrap();
            assert!(is_as_written(plain.as_bytes()) && is_as_written(both.as_bytes()), "{both}");
            assert_eq!((refuses_https(plain.as_bytes()), refuses_https(both.as_bytes())), (false, true));
            assert!(!both.contains("default_server"), "{both}");
        }
        settings.web.server = WebServer::None;
        assert_eq!(unknown_hosts(&settings, None), None);
    }
}
