//! The rules of Apache httpd for the parts of a site: files, PHP by FastCGI, programs by http.
//!
//! Rules are read in their order: each part ends the reading for its paths, the longest paths first.

use std::fmt::Write;

use super::apache::{READ_ALONE, quoted, quoted_pattern};
use super::host_plan::HostPlan;
use super::parts::{PROGRAM_WORDS, RUN, SCRIPTS, SIGN_IN, ShownPart, in_pattern, shown_parts};
use super::{HIDDEN, Served};
use crate::site::{Answering, Upstream};

/// The file that a path stands for.
const FILE: &str = "%{DOCUMENT_ROOT}%{REQUEST_URI}";

/// All parts that a host shows.
pub(super) fn render(text: &mut String, served: &Served<'_>, plan: &HostPlan<'_>, tls: bool) {
    let content = &served.site.rules.content;
    let parts = shown_parts(served, plan, false);
    if parts.iter().any(|part| *part.by != Answering::Files) {
        for_programs(text, served, &parts, tls);
    }
    if let Some(page) = &content.missing_page {
        let _ = writeln!(text, "    ErrorDocument 404 {page}");
    }
    for cached in &content.cache {
        let pattern = quoted_pattern(&format!("(?i)[.](?:{})$", in_pattern(&cached.endings.join("|"))));
        let _ = writeln!(text, "    <FilesMatch {pattern}>");
        let _ = writeln!(text, "        Header set Cache-Control \"max-age={}\"\n    </FilesMatch>", cached.seconds);
    }
    guards(text, served);
    for part in &parts {
        if part.has_bare_path && !matches!(part.by, Answering::Program(_)) {
            let itself = quoted(&format!("^{}$", in_pattern(part.stem)));
            let there = quoted(&format!("%{{REQUEST_SCHEME}}://%{{HTTP_HOST}}{}/", part.stem));
            let _ = writeln!(text, "    RewriteRule {itself} {there} [R=301,L,NE]");
        }
        match part.by {
            Answering::Program(at) => program(text, part, at),
            _ => files(text, served, part),
        }
    }
    // Behind the rules, so that the last part's folder settings win.
    for part in parts.iter().rev() {
        folder(text, served, part);
    }
    if let Some(own) = &served.own {
        let _ = writeln!(text, "    IncludeOptional {}", quoted(&own.to_string_lossy()));
    }
}

/// Who may see what. A rule marks the request by the path that was asked for, since later ones give it another; the longest
/// path comes last, and counts.
fn guards(text: &mut String, served: &Served<'_>) {
    let mut guards: Vec<_> = served.site.rules.content.guards.iter().collect();
    guards.sort_by_key(|guard| guard.path.len());
    if !guards.is_empty() {
        let _ = writeln!(text, "    ErrorDocument 401 {}", quoted(SIGN_IN));
    }
    for (number, guard) in guards.iter().enumerate() {
        let below = in_pattern(guard.path.trim_end_matches('/'));
        let _ = writeln!(text, "    RewriteRule \"^{below}(?:/|$)\" - [E=guard{number}:yes]");
        let _ = writeln!(text, "    <If \"reqenv('guard{number}') == 'yes'\">");
        if !guard.users.is_empty() {
            let file = served.layout.passwords_of(served.site.main(), &guard.path);
            text.push_str("        AuthType Basic\n        AuthName \"members\"\n        AuthBasicProvider file\n");
            let _ = writeln!(text, "        AuthUserFile {}", quoted(&file.to_string_lossy()));
        }
        text.push_str("        <RequireAll>\n");
        if !guard.users.is_empty() {
            text.push_str("            Require valid-user\n");
        }
        if !guard.from.is_empty() {
            let from = guard.from.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
            let _ = writeln!(text, "            Require ip {from}");
        }
        text.push_str("        </RequireAll>\n    </If>\n");
    }
}

/// What holds for all of the host's block.
fn for_programs(text: &mut String, served: &Served<'_>, parts: &[ShownPart<'_>], tls: bool) {
    let content = &served.site.rules.content;
    // The server's own limit is not for what it passes on. What does not say how large it is cannot be told from that.
    let limit = content.body_limit();
    let _ =
        writeln!(text, "    RewriteCond expr \"%{{HTTP:Content-Length}} -gt {limit}\"\n    RewriteRule ^ - [R=413,L]");
    text.push_str("    RewriteCond %{HTTP:Transfer-Encoding} .\n    RewriteRule ^ - [R=411,L]\n");
    // HTTP/2 needs neither header (RFC 9113 section 8.1.1).
    text.push_str("    RewriteCond %{HTTP2} =on\n    RewriteCond %{HTTP:Content-Length} ^$\n");
    text.push_str(
        "    RewriteCond %{REQUEST_METHOD} \"!^(?:GET|HEAD|OPTIONS|DELETE)$\"\n    RewriteRule ^ - [R=411,L]\n",
    );
    text.push_str("    UseCanonicalName Off\n");
    for (_, _, status, words) in PROGRAM_WORDS {
        let _ = writeln!(text, "    ErrorDocument {status} {}", quoted(words));
    }
    let mut programs = Vec::new();
    for part in parts {
        let worker = match (part.by, served.php_at(part.by)) {
            (Answering::Program(Upstream::Address(address)), _) => format!("http://{address}"),
            (Answering::Program(Upstream::Socket(path)), _) => format!("unix:{}|http://program/", path.display()),
            (_, Some(php)) => fastcgi(&php),
            (_, None) => continue,
        };
        let upgrade = if matches!(part.by, Answering::Program(_)) { " upgrade=websocket" } else { "" };
        if !programs.contains(&worker) {
            let _ = writeln!(text, "    <Proxy {}>", quoted(&worker));
            let _ = writeln!(text, "        ProxySet timeout={}{upgrade}\n    </Proxy>", content.time_limit());
            programs.push(worker);
        }
    }
    if parts.iter().any(|part| matches!(part.by, Answering::Program(_))) {
        let scheme = if tls { "https" } else { "http" };
        text.push_str("    AllowEncodedSlashes NoDecode\n    ProxyPreserveHost On\n    ProxyAddHeaders Off\n");
        // An address of IPv6 stands in brackets (RFC 7239 section 6).
        for (address, condition) in [("%{REMOTE_ADDR}", "!~"), ("[%{REMOTE_ADDR}]", "=~")] {
            let value = format!("expr=for=\\\"{address}\\\";host=\\\"%{{HTTP_HOST}}\\\";proto={scheme}");
            let condition = format!("expr=%{{REMOTE_ADDR}} {condition} /:/");
            let _ = writeln!(text, "    RequestHeader set Forwarded \"{value}\" \"{condition}\"");
        }
        text.push_str("    RequestHeader set X-Forwarded-For \"expr=%{REMOTE_ADDR}\"\n");
        text.push_str("    RequestHeader set X-Forwarded-Host \"expr=%{HTTP_HOST}\"\n");
        let _ = writeln!(text, "    RequestHeader set X-Forwarded-Proto {scheme}\n    RequestHeader unset Proxy early");
    }
}

fn fastcgi(at: &Upstream) -> String {
    match at {
        Upstream::Address(address) => format!("fcgi://{address}"),
        Upstream::Socket(path) => format!("unix:{}|fcgi://localhost", path.display()),
    }
}

/// A program gets the path as it was asked, encoding and all.
fn program(text: &mut String, part: &ShownPart<'_>, at: &Upstream) {
    let target = match at {
        Upstream::Address(address) => format!("http://{address}"),
        Upstream::Socket(path) => format!("unix:{}|http://program", path.display()),
    };
    let pattern = match (part.stem, part.has_bare_path) {
        ("", _) => "^/".to_string(),
        (stem, true) => format!("^{}(?:/|$)", in_pattern(stem)),
        (stem, false) => format!("^{}/", in_pattern(stem)),
    };
    text.push_str("    RewriteCond %{THE_REQUEST} \"^\\S+ (/[^?\\s]*)\"\n");
    let _ = writeln!(text, "    RewriteRule {} {} [P,NE]", quoted(&pattern), quoted(&format!("{target}%1")));
    // A request that names the host in its first line.
    let whole = format!("{pattern}.*");
    let _ = writeln!(text, "    RewriteRule {} {} [P]", quoted(&whole), quoted(&format!("{target}$0")));
}

/// Files of the document root, with or without PHP among them.
fn files(text: &mut String, served: &Served<'_>, part: &ShownPart<'_>) {
    let content = &served.site.rules.content;
    let php = served.php_at(part.by).is_some();
    let below = quoted(&format!("^{}/", in_pattern(part.stem)));
    let folders = quoted(&format!("^{}/(?:.*/)?$", in_pattern(part.stem)));
    let hidden = match part.stem {
        "" => quoted_pattern(HIDDEN),
        stem => quoted_pattern(&format!("^{}/(?:.*/)?[.]", in_pattern(stem))),
    };
    let _ = writeln!(text, "    RewriteRule {hidden} - [R=404,L]");
    for folder in served.no_scripts_around(part.stem).filter(|_| php) {
        let _ = writeln!(
            text,
            "    RewriteRule {} - [F]",
            quoted_pattern(&format!("(?i)^{}/.*{SCRIPTS}", in_pattern(folder)))
        );
    }
    let scripts = quoted_pattern(&format!("(?i)^{}/.*{SCRIPTS}", in_pattern(part.stem)));
    if php {
        // Spellings that PHP would run elsewhere.
        let _ = writeln!(text, "    RewriteCond %{{REQUEST_URI}} \"!{RUN}\"\n    RewriteRule {scripts} - [F]");
        // What is there to be read, and is no script.
        let _ =
            writeln!(text, "{READ_ALONE}    RewriteCond \"{FILE}\" -f\n    RewriteCond %{{REQUEST_URI}} \"!{RUN}\"");
    } else {
        let _ = writeln!(text, "    RewriteRule {scripts} - [F]");
        text.push_str(READ_ALONE);
    }
    let _ = writeln!(text, "    RewriteRule {below} - [R=405,L]");
    // What a folder without index page answers would depend on the modules that are loaded.
    if !content.listing {
        let _ = writeln!(text, "    RewriteCond \"{FILE}\" -d");
        for index in content.index_of(part.by) {
            let _ = writeln!(text, "    RewriteCond \"{FILE}{index}\" !-f");
        }
        let _ = writeln!(text, "    RewriteRule {folders} - [F]");
    }
    if php {
        // A folder whose page is no script.
        let _ = writeln!(text, "{READ_ALONE}    RewriteCond \"{FILE}\" -d");
        for script in content.index_of(part.by).into_iter().filter(|index| index.ends_with(".php")) {
            let _ = writeln!(text, "    RewriteCond \"{FILE}{script}\" !-f");
        }
        let _ = writeln!(text, "    RewriteRule {folders} - [R=405,L]");
    }
    let otherwise = match (php, &content.single_page) {
        (true, _) if content.front => Some(format!("{}/index.php", part.stem)),
        (false, Some(page)) => Some(page.clone()),
        _ => None,
    };
    if let Some(page) = otherwise {
        // The server asks itself for the pages of a folder, one after the other.
        text.push_str("    RewriteCond %{IS_SUBREQ} false\n");
        let _ = writeln!(text, "    RewriteCond \"{FILE}\" !-f\n    RewriteCond \"{FILE}\" !-d");
        if php {
            let _ = writeln!(text, "    RewriteCond %{{REQUEST_URI}} \"!{RUN}\"");
        }
        // With its own name for it, which a script is told.
        let _ = writeln!(text, "    RewriteRule {below} {} [PT,L]", quoted(&page));
    }
    if !part.stem.is_empty() {
        let _ = writeln!(text, "    RewriteRule {below} - [L]");
    }
}

/// What the folder of a part is set to: what runs there, and which pages it shows first.
fn folder(text: &mut String, served: &Served<'_>, part: &ShownPart<'_>) {
    if matches!(part.by, Answering::Program(_)) {
        return;
    }
    let content = &served.site.rules.content;
    let usual = part.stem.is_empty() && *part.by == Answering::Files;
    if usual && content.index.is_empty() && !content.listing {
        return;
    }
    let folder = format!("{}{}", served.site.document_root.display(), part.stem);
    let _ = writeln!(text, "    <Directory {}>", quoted(&folder));
    let _ = writeln!(text, "        DirectoryIndex {}", content.index_of(part.by).join(" "));
    if content.listing {
        text.push_str("        Options +Indexes\n");
    }
    match served.php_at(part.by) {
        Some(at) => {
            text.push_str("        <FilesMatch \"[.]php$\">\n            <If \"-f %{REQUEST_FILENAME}\">\n");
            let _ = writeln!(text, "                SetHandler {}", quoted(&format!("proxy:{}", fastcgi(&at))));
            text.push_str("            </If>\n        </FilesMatch>\n");
        }
        // Below a folder of PHP.
        None if !part.stem.is_empty() => {
            text.push_str("        <FilesMatch \"[.]php$\">\n            SetHandler none\n        </FilesMatch>\n");
        }
        None => {}
    }
    text.push_str("    </Directory>\n");
}
