//! The locations of nginx for the parts of a site: files, PHP by FastCGI, programs by http.
//!
//! The path of a part is taken before all regular expressions outside of it (`^~`), so that each part has its own.

use std::fmt::Write;

use super::host_plan::HostPlan;
use super::nginx::quoted;
use super::parts::{PROGRAM_WORDS, RUN, SCRIPTS, SIGN_IN, ShownPart, in_pattern, is_script, shown_parts};
use super::{HIDDEN, Served};
use crate::site::{Answering, Upstream, is_at_or_below};

/// All parts that a host shows.
pub(super) fn render(text: &mut String, served: &Served<'_>, plan: &HostPlan<'_>, tls: bool) {
    let parts = shown_parts(served, plan, true);
    if parts.iter().any(|part| *part.by != Answering::Files) {
        for_programs(text, served, &parts);
    }
    if !served.site.rules.content.guards.is_empty() {
        let _ = writeln!(text, "    error_page 401 @sign-in;\n    location @sign-in {{");
        let _ = writeln!(text, "        default_type text/plain;\n        return 401 {};\n    }}", quoted(SIGN_IN));
    }
    for part in &parts {
        let path = quoted(part.stem);
        match (part.by, part.has_bare_path) {
            (_, false) => {}
            (Answering::Program(at), true) => {
                let _ = writeln!(text, "    location = {path} {{");
                guard(text, served, part);
                program(text, served, at, tls);
            }
            (_, true) if part.is_piece() => single(text, served, part, tls),
            // As for any folder.
            (_, true) => {
                let _ = writeln!(text, "    location = {path} {{");
                let there = quoted(&format!("$scheme://$http_host{}/$is_args$args", part.stem));
                let _ = writeln!(text, "        return 301 {there};\n    }}");
            }
        }
        let opening =
            if part.stem.is_empty() { "/".into() } else { format!("^~ {}", quoted(&format!("{}/", part.stem))) };
        let _ = writeln!(text, "    location {opening} {{");
        guard(text, served, part);
        match part.by {
            Answering::Program(at) => program(text, served, at, tls),
            _ => files(text, served, part, tls),
        }
    }
    if let Some(own) = &served.own {
        // As a pattern: a file that is gone stops no server.
        let own = own.to_string_lossy();
        let _ = writeln!(text, "    include {};", quoted(&format!("{}[f]", own.strip_suffix('f').unwrap_or(&own))));
    }
}

/// Who may see a part. Both have to hold where there are both.
fn guard(text: &mut String, served: &Served<'_>, part: &ShownPart<'_>) {
    let Some(guard) = part.guard else { return };
    if !guard.users.is_empty() {
        let file = served.layout.passwords_of(served.site.main(), &guard.path);
        text.push_str("        auth_basic \"members\";\n");
        let _ = writeln!(text, "        auth_basic_user_file {};", quoted(&file.to_string_lossy()));
    }
    for network in &guard.from {
        let _ = writeln!(text, "        allow {network};");
    }
    if !guard.from.is_empty() {
        text.push_str("        deny all;\n");
    }
}

/// The bare path of a guarded piece: a file, a script, or a folder without its slash. nginx takes no further locations here.
fn single(text: &mut String, served: &Served<'_>, part: &ShownPart<'_>, tls: bool) {
    let _ = writeln!(text, "    location = {} {{", quoted(part.stem));
    guard(text, served, part);
    let php = served.php_at(part.by);
    let runs = part.stem.ends_with(".php")
        && !served.no_scripts_around(part.stem).any(|folder| is_at_or_below(folder, part.stem));
    match &php {
        Some(at) if runs => run(text, served, at, tls),
        _ if is_script(part.stem) => text.push_str("            return 403;\n"),
        _ => drop(plain_files(text, served, part, php.is_some())),
    }
    text.push_str("    }\n");
}

/// What holds for all of the server's block.
fn for_programs(text: &mut String, served: &Served<'_>, parts: &[ShownPart<'_>]) {
    let content = &served.site.rules.content;
    let _ = writeln!(text, "    client_max_body_size {};", content.body_limit());
    for (name, statuses, status, words) in PROGRAM_WORDS {
        let statuses = statuses.iter().map(u16::to_string).collect::<Vec<_>>().join(" ");
        let _ = writeln!(text, "    error_page {statuses} ={status} @{name};\n    location @{name} {{");
        let _ = writeln!(text, "        default_type text/plain;\n        return {status} {};\n    }}", quoted(words));
    }
    if parts.iter().any(|part| matches!(part.by, Answering::Program(_))) {
        // An address of IPv6 stands in brackets (RFC 7239 section 6).
        text.push_str("    set $visitor $remote_addr;\n    if ($remote_addr ~ \":\") {\n");
        text.push_str("        set $visitor \"[$remote_addr]\";\n    }\n");
        text.push_str("    set $kept_open \"\";\n    if ($http_upgrade ~* \"^websocket$\") {\n");
        text.push_str("        set $kept_open \"upgrade\";\n    }\n");
    }
}

/// Files of the document root, with or without PHP among them.
fn files(text: &mut String, served: &Served<'_>, part: &ShownPart<'_>, tls: bool) {
    let content = &served.site.rules.content;
    let php = served.php_at(part.by);
    let otherwise = plain_files(text, served, part, php.is_some());
    let _ = writeln!(text, "        location ~ {} {{\n            return 404;\n        }}", quoted(HIDDEN));
    for folder in served.no_scripts_around(part.stem).filter(|_| php.is_some()) {
        let pattern = quoted(&format!("^{}/.*{SCRIPTS}", in_pattern(folder)));
        let _ = writeln!(text, "        location ~* {pattern} {{\n            return 403;\n        }}");
    }
    if let Some(at) = &php {
        script(text, served, at, tls);
    }
    let _ = writeln!(text, "        location ~* {} {{\n            return 403;\n        }}", quoted(SCRIPTS));
    for cached in &content.cache {
        let pattern = quoted(&format!("[.](?:{})$", in_pattern(&cached.endings.join("|"))));
        let _ = writeln!(text, "        location ~* {pattern} {{\n            expires {}s;", cached.seconds);
        if let Some(page) = &otherwise {
            let _ = writeln!(text, "            try_files $uri {};", quoted(page));
        }
        text.push_str("        }\n");
    }
    text.push_str("    }\n");
}

/// What holds for all files of a part. Gives what answers for those that are not there.
fn plain_files(text: &mut String, served: &Served<'_>, part: &ShownPart<'_>, php: bool) -> Option<String> {
    let content = &served.site.rules.content;
    if !php {
        text.push_str("        if ($request_method !~ \"^(?:GET|HEAD)$\") {\n            return 405;\n        }\n");
    }
    let _ = writeln!(text, "        index {};", content.index_of(part.by).join(" "));
    if content.listing {
        text.push_str("        autoindex on;\n");
    }
    let otherwise = match (php, &content.single_page) {
        (true, _) if content.front => Some(format!("{}/index.php$is_args$args", part.base)),
        (false, Some(page)) => Some(page.clone()),
        _ => None,
    };
    if let Some(page) = &otherwise {
        let _ = writeln!(text, "        try_files $uri $uri/ {};", quoted(page));
    }
    // A customer's link to a file of somebody else would show what only this server may read. The root itself is
    // checked when it is made.
    let root = quoted(&served.site.document_root.to_string_lossy());
    let _ = writeln!(text, "        disable_symlinks if_not_owner from={root};");
    // Each folder on the way is opened for that: for a second it is remembered, which makes up for it.
    text.push_str("        open_file_cache max=1000 inactive=10s;\n        open_file_cache_valid 1s;\n");
    otherwise
}

/// The scripts of PHP. What is behind one in the path is for the script; only files that are there are run.
fn script(text: &mut String, served: &Served<'_>, at: &Upstream, tls: bool) {
    let _ = writeln!(text, "        location ~ {} {{", quoted(RUN));
    run(text, served, at, tls);
    text.push_str("        }\n");
}

/// Passes a script on, if it is there.
fn run(text: &mut String, served: &Served<'_>, at: &Upstream, tls: bool) {
    text.push_str("            fastcgi_split_path_info \"^(.+?[.]php)(/.*)?$\";\n");
    text.push_str(
        "            if (!-f $document_root$fastcgi_script_name) {\n                return 404;\n            }\n",
    );
    for (name, value) in [
        ("SCRIPT_FILENAME", "$document_root$fastcgi_script_name"),
        ("SCRIPT_NAME", "$fastcgi_script_name"),
        ("PATH_INFO", "$fastcgi_path_info"),
        ("DOCUMENT_ROOT", "$document_root"),
        ("DOCUMENT_URI", "$document_uri"),
        ("REQUEST_URI", "$request_uri"),
        ("REQUEST_METHOD", "$request_method"),
        ("REQUEST_SCHEME", "$scheme"),
        ("QUERY_STRING", "$query_string"),
        ("CONTENT_TYPE", "$content_type"),
        ("CONTENT_LENGTH", "$content_length"),
        ("GATEWAY_INTERFACE", "CGI/1.1"),
        ("SERVER_PROTOCOL", "$server_protocol"),
        ("SERVER_SOFTWARE", "nginx"),
        ("SERVER_NAME", "$host"),
        ("SERVER_ADDR", "$server_addr"),
        ("SERVER_PORT", "$server_port"),
        ("REMOTE_ADDR", "$remote_addr"),
        ("REMOTE_PORT", "$remote_port"),
        ("REDIRECT_STATUS", "200"),
        // A header of the visitor's would become the proxy that a script goes through.
        ("HTTP_PROXY", "\"\""),
    ] {
        let _ = writeln!(text, "            fastcgi_param {name} {value};");
    }
    if tls {
        text.push_str("            fastcgi_param HTTPS on;\n");
    }
    let limit = served.site.rules.content.time_limit();
    let _ = writeln!(text, "            fastcgi_read_timeout {limit}s;\n            fastcgi_send_timeout {limit}s;");
    let _ = writeln!(text, "            fastcgi_pass {};", quoted(&at.to_string()));
}

/// A program gets the path as it was asked, encoding and all.
fn program(text: &mut String, served: &Served<'_>, at: &Upstream, tls: bool) {
    let scheme = if tls { "https" } else { "http" };
    text.push_str("        proxy_http_version 1.1;\n        proxy_redirect off;\n");
    // As the site is named: what the visitor wrote beside a whole URL could be anything.
    let host = served.authority("$host", tls);
    let forwarded = format!("\"for=\\\"$visitor\\\";host=\\\"{host}\\\";proto={scheme}\"");
    for (name, value) in [
        ("Host", host.as_str()),
        ("Forwarded", forwarded.as_str()),
        ("X-Forwarded-For", "$remote_addr"),
        ("X-Forwarded-Host", host.as_str()),
        ("X-Forwarded-Proto", scheme),
        ("Upgrade", "$http_upgrade"),
        ("Connection", "$kept_open"),
        ("Proxy", "\"\""),
    ] {
        let _ = writeln!(text, "        proxy_set_header {name} {value};");
    }
    let limit = served.site.rules.content.time_limit();
    let _ = writeln!(text, "        proxy_read_timeout {limit}s;\n        proxy_send_timeout {limit}s;");
    let _ = writeln!(text, "        proxy_pass {};\n    }}", quoted(&format!("http://{at}")));
}
