//! The Apache httpd file of one site: a virtual host a hostname and port, since a redirect names its host.
//!
//! The modules that it needs are in `modules`. Paths are checked before they get here (`site::check_path`).

use std::fmt::Write;
use std::net::IpAddr;

use super::host_plan::{self, HostPlan};
use super::{FINGERPRINT_PATH, PROOF_PATH, Served, TLS12_CIPHERS, WORDS, apache_parts};
use crate::redirect::{Redirect, Target};
use crate::site::{SiteLogs, TlsFloor};

/// What both servers call the combined format.
const LOG_FORMAT: &str = "%h %l %u %t \\\"%r\\\" %>s %O \\\"%{Referer}i\\\" \\\"%{User-Agent}i\\\"";

/// Content and proofs are there to be read.
pub(super) const READ_ALONE: &str = "    RewriteCond %{REQUEST_METHOD} \"!^(?:GET|HEAD)$\"\n";

pub(super) fn render(served: &Served<'_>) -> String {
    let mut text = String::new();
    let root = quoted(&served.site.document_root.to_string_lossy());
    let _ = writeln!(text, "<Directory {root}>\n    Require all granted\n    Options SymLinksIfOwnerMatch");
    let words: Vec<&str> = served.site.rules.content.htaccess.iter().map(|group| group.word()).collect();
    let allowed = if words.is_empty() { "None".into() } else { words.join(" ") };
    let _ = writeln!(text, "    AllowOverride {allowed}\n</Directory>");
    let _ = writeln!(
        text,
        "<Directory {}>\n    Require all granted\n</Directory>",
        quoted(&served.proofs.to_string_lossy())
    );
    for plan in host_plan::each(served.site) {
        virtual_host(&mut text, served, &plan, false);
        if served.site.certificate.is_some() {
            virtual_host(&mut text, served, &plan, true);
        }
    }
    text
}

fn virtual_host(text: &mut String, served: &Served<'_>, plan: &HostPlan<'_>, tls: bool) {
    let hostname = plan.hostnames[0];
    let port = if tls { served.https_port } else { served.http_port };
    let nameless_at = served.nameless_at().filter(|_| tls);
    let listen = nameless_at.as_ref().map_or(served.listen, std::slice::from_ref);
    let _ = writeln!(text, "<VirtualHost {}>", places(listen, port));
    match hostname.address() {
        // A ServerName cannot be an IPv6 address; an alias can.
        Some(IpAddr::V6(address)) => {
            let _ = writeln!(text, "    ServerName address.invalid\n    ServerAlias [{address}] {address}");
        }
        _ => {
            let _ = writeln!(text, "    ServerName {hostname}");
        }
    }
    let _ = writeln!(text, "    DocumentRoot {}", quoted(&served.site.document_root.to_string_lossy()));
    text.push_str("    DirectoryIndex index.html index.htm\n");
    if let Some(SiteLogs { access, errors }) = &served.logs {
        let _ = writeln!(text, "    CustomLog {} \"{LOG_FORMAT}\"", quoted(&access.to_string_lossy()));
        let _ = writeln!(text, "    ErrorLog {}", quoted(&errors.to_string_lossy()));
    }
    if let Some(files) = served.site.certificate.as_ref().filter(|_| tls) {
        text.push_str("    SSLEngine on\n    Protocols h2 http/1.1\n");
        text.push_str(match served.site.rules.tls {
            TlsFloor::Tls12 => "    SSLProtocol -all +TLSv1.2 +TLSv1.3\n",
            TlsFloor::Tls13 => "    SSLProtocol -all +TLSv1.3\n",
        });
        let _ = writeln!(text, "    SSLCipherSuite {TLS12_CIPHERS}");
        if let Some(seconds) = served.site.rules.hsts.filter(|_| plan.forced) {
            let _ = writeln!(text, "    Header always set Strict-Transport-Security \"max-age={seconds}\"");
        }
        let _ = writeln!(text, "    SSLCertificateFile {}", quoted(&files.chain().to_string_lossy()));
        let _ = writeln!(text, "    SSLCertificateKeyFile {}", quoted(&files.key().to_string_lossy()));
        if files.is_stapled() {
            // It fetches them itself, into the `SSLStaplingCache` that its own configuration has: that line cannot stand here, since
            // httpd ends when it finds it gone at a reload. What it makes up for an answer that does not come is worse than none.
            text.push_str("    SSLUseStapling on\n    SSLStaplingReturnResponderErrors off\n");
            text.push_str("    SSLStaplingFakeTryLater off\n");
        }
    }
    let proofs = format!("{}/", served.proofs.display());
    let _ = writeln!(text, "    Alias {} {}", quoted(PROOF_PATH), quoted(&proofs));
    for (path, file) in served.demanded() {
        let _ = writeln!(text, "    Alias {} {}", quoted(path), quoted(&file.to_string_lossy()));
        let _ = writeln!(text, "    <Location {}>\n        ForceType text/plain\n    </Location>", quoted(path));
    }
    // A denied path with a text of its own: it needs no file and no further module.
    let _ = writeln!(text, "    <Location {}>\n        Require all denied", quoted(FINGERPRINT_PATH));
    let _ = writeln!(text, "        ErrorDocument 403 {}\n    </Location>", quoted(&served.fingerprint));
    for (_, statuses, words) in WORDS {
        for status in statuses {
            let _ = writeln!(text, "    ErrorDocument {status} {}", quoted(words));
        }
    }
    text.push_str("    RewriteEngine on\n");
    let _ = writeln!(text, "{READ_ALONE}    RewriteRule \"^/\\.well-known/acme-challenge/\" - [R=405,L]");
    let _ = writeln!(text, "    RewriteRule \"^/\\.well-known/(?:acme-challenge/|bright-harbor$)\" - [L]");
    for (path, _) in served.demanded() {
        let pattern = quoted(&format!("^{}$", in_pattern(path)));
        let _ = writeln!(text, "{READ_ALONE}    RewriteRule {pattern} - [R=405,L]\n    RewriteRule {pattern} - [L]");
    }
    if plan.forced && !tls {
        raw_request(text, &format!("https://{}", served.authority(hostname.as_str(), true)));
    } else {
        for redirect in plan.of_paths().chain(plan.whole()) {
            rewrite(text, redirect);
        }
        match &plan.sent_to {
            Some(twin) => {
                let scheme = if tls { "https" } else { "http" };
                raw_request(text, &format!("{scheme}://{}", served.authority(twin.as_str(), tls)));
            }
            None => apache_parts::render(text, served, plan, tls),
        }
    }
    text.push_str("</VirtualHost>\n");
}

/// Where a virtual host listens: at these addresses, or at all of the host's.
pub(super) fn places(listen: &[IpAddr], port: u16) -> String {
    let at = |address: &IpAddr| {
        if address.is_ipv6() { format!("[{address}]:{port}") } else { format!("{address}:{port}") }
    };
    match listen {
        [] => format!("*:{port}"),
        _ => listen.iter().map(at).collect::<Vec<_>>().join(" "),
    }
}

/// Everything goes on to another host with its path as it came, encoding and all; the server adds the query.
fn raw_request(text: &mut String, base: &str) {
    text.push_str("    RewriteCond %{THE_REQUEST} \"^\\S+ (/[^?\\s]*)\"\n");
    let _ = writeln!(text, "    RewriteRule ^ {} [R=301,L,NE]", quoted(&format!("{base}%1")));
    // A request that names the host in its first line.
    let _ = writeln!(text, "    RewriteRule ^(.*)$ {} [R=301,L]", quoted(&format!("{base}$1")));
}

pub(super) fn redirect_rule(redirect: &Redirect) -> String {
    let mut text = String::new();
    rewrite(&mut text, redirect);
    text
}

fn rewrite(text: &mut String, redirect: &Redirect) {
    let (status, keep) = (redirect.status, redirect.keep_path);
    let path = if redirect.source.path == "/" { String::new() } else { in_pattern(&redirect.source.path) };
    let itself = if path.is_empty() { "^/$".to_string() } else { format!("^{path}$") };
    let target = quoted_pattern(&located(redirect.target.text(), redirect));
    let query = if keep { "" } else { ",QSD" };
    let _ = writeln!(text, "    RewriteRule {} {target} [R={status},L,NE{query}]", quoted(&itself));
    if !redirect.source.prefix {
        return;
    }
    let below = quoted(&format!("^{path}/"));
    if keep {
        let depth = host_plan::depth(redirect);
        let raw = format!("^\\S+ (?:/[^/?\\s]*){{{depth}}}((?:/[^?\\s]*)?)(?:[? ]|$)");
        let rest = format!("{}%1", located(redirect.target.stem(), redirect));
        let _ = writeln!(text, "    RewriteCond %{{THE_REQUEST}} {}", quoted_pattern(&raw));
        let _ = writeln!(text, "    RewriteRule {below} {} [R={status},L,NE]", quoted_pattern(&rest));
    }
    let _ = writeln!(text, "    RewriteRule {below} {target} [R={status},L,NE,QSD]");
}

/// A path on the same host is written out with the host as it was asked. A `%` would begin a variable.
fn located(target: &str, redirect: &Redirect) -> String {
    let target = target.replace('%', "\\%");
    match redirect.target {
        Target::Url(_) => target,
        Target::Path(_) => format!("%{{REQUEST_SCHEME}}://%{{HTTP_HOST}}{target}"),
    }
}

/// A path as a regular expression that matches it alone.
fn in_pattern(path: &str) -> String {
    let mut pattern = String::with_capacity(path.len());
    for character in path.chars() {
        if ".+*!:=&'~@,-".contains(character) {
            pattern.push_str(&format!("[{character}]"));
        } else {
            pattern.push(character);
        }
    }
    pattern
}

/// In quotes with nothing escaped: a pattern has no quotes, and its backslashes are its own.
pub(super) fn quoted_pattern(pattern: &str) -> String {
    format!("\"{pattern}\"")
}

pub(super) fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
