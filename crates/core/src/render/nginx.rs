//! The nginx file of one site.
//!
//! Paths are checked before they get here (`site::check_path`), hostnames are hostnames; both are quoted all the same.

use std::fmt::Write;
use std::net::IpAddr;

use super::host_plan::{self, HostPlan};
use super::{FINGERPRINT_PATH, NO_TLS12_CIPHERS, PROOF_PATH, Served, TLS12_CIPHERS, WORDS, nginx_parts};
use crate::redirect::{Redirect, Target};
use crate::site::{SiteLogs, TlsFloor};

pub(super) fn render(served: &Served<'_>) -> String {
    let mut text = String::new();
    for plan in host_plan::grouped(served.site) {
        server(&mut text, served, &plan, false);
        if served.site.certificate.is_some() {
            server(&mut text, served, &plan, true);
        }
    }
    text
}

fn server(text: &mut String, served: &Served<'_>, plan: &HostPlan<'_>, tls: bool) {
    let names: Vec<&str> = plan.hostnames.iter().map(|name| name.as_str()).collect();
    text.push_str("server {\n");
    let port = if tls { served.https_port } else { served.http_port };
    let suffix = if tls { " ssl http2" } else { "" };
    match served.nameless_at().filter(|_| tls) {
        Some(address) => {
            let _ = writeln!(text, "    listen {}:{port}{suffix} default_server;", bracketed(address));
        }
        None => {
            for address in listen_addresses(served.listen, served.ipv6) {
                let _ = writeln!(text, "    listen {address}:{port}{suffix};");
            }
        }
    }
    let _ = writeln!(text, "    server_name {};", names.join(" "));
    let _ = writeln!(text, "    root {};", quoted(&served.site.document_root.to_string_lossy()));
    if let Some(SiteLogs { access, errors }) = &served.logs {
        let _ = writeln!(text, "    access_log {} combined;", quoted(&access.to_string_lossy()));
        let _ = writeln!(text, "    error_log {};", quoted(&errors.to_string_lossy()));
    }
    if let Some(files) = served.site.certificate.as_ref().filter(|_| tls) {
        let _ = writeln!(text, "    ssl_certificate {};", quoted(&files.chain().to_string_lossy()));
        let _ = writeln!(text, "    ssl_certificate_key {};", quoted(&files.key().to_string_lossy()));
        if files.is_stapled() {
            let staple = quoted(&files.staple().to_string_lossy());
            let _ = writeln!(text, "    ssl_stapling on;\n    ssl_stapling_file {staple};");
        }
        // nginx takes the versions from the first server at a socket, for the names of all. So all have the same, and what
        // a site does not want is left without a cipher suite: those are taken from the site itself.
        let ciphers = match served.site.rules.tls {
            TlsFloor::Tls12 => TLS12_CIPHERS,
            TlsFloor::Tls13 => NO_TLS12_CIPHERS,
        };
        let _ = writeln!(text, "    ssl_protocols TLSv1.2 TLSv1.3;\n    ssl_ciphers {ciphers};");
        if let Some(seconds) = served.site.rules.hsts.filter(|_| plan.forced) {
            let _ = writeln!(text, "    add_header Strict-Transport-Security \"max-age={seconds}\" always;");
        }
    }
    let proofs = format!("{}/", served.proofs.display());
    let _ = writeln!(text, "    location ^~ {PROOF_PATH} {{");
    let _ = writeln!(text, "        alias {};", quoted(&proofs));
    text.push_str("        default_type application/octet-stream;\n    }\n");
    for (path, file) in served.demanded() {
        let _ = writeln!(text, "    location = {} {{", quoted(path));
        let _ = writeln!(text, "        alias {};", quoted(&file.to_string_lossy()));
        text.push_str("        default_type text/plain;\n    }\n");
    }
    let _ = writeln!(text, "    location = {FINGERPRINT_PATH} {{");
    text.push_str("        default_type text/plain;\n");
    let _ = writeln!(text, "        return 403 {};\n    }}", quoted(&served.fingerprint));
    let shows_parts = plan.whole().is_none() && plan.sent_to.is_none() && (tls || !plan.forced);
    let missing_page = served.site.rules.content.missing_page.as_deref().filter(|_| shows_parts);
    for (name, statuses, words) in WORDS {
        if let (&[404], Some(page)) = (statuses, missing_page) {
            let _ = writeln!(text, "    error_page 404 {};", quoted(page));
            continue;
        }
        let statuses = statuses.iter().map(u16::to_string).collect::<Vec<_>>().join(" ");
        let _ = writeln!(text, "    error_page {statuses} @{name};\n    location @{name} {{");
        let _ = writeln!(text, "        default_type text/plain;\n        return 200 {};\n    }}", quoted(words));
    }
    if plan.forced && !tls {
        let target = served.authority("$host", true);
        let _ = writeln!(text, "    location / {{\n        return 301 https://{target}$request_uri;\n    }}\n}}");
        return;
    }
    // nginx takes no path twice, and what a seller demands goes first.
    let demanded: Vec<&str> = served.demanded().map(|(path, _)| path).collect();
    plan.of_paths().for_each(|redirect| locations(text, redirect, &demanded));
    match (plan.whole(), &plan.sent_to) {
        (Some(redirect), _) => locations(text, redirect, &demanded),
        (None, Some(twin)) => {
            let target = served.authority(twin.as_str(), tls);
            let _ = writeln!(text, "    location / {{\n        return 301 $scheme://{target}$request_uri;\n    }}");
        }
        (None, None) => nginx_parts::render(text, served, plan, tls),
    }
    text.push_str("}\n");
}

pub(super) fn redirect_rule(redirect: &Redirect) -> String {
    let mut text = String::new();
    locations(&mut text, redirect, &[]);
    text
}

fn locations(text: &mut String, redirect: &Redirect, demanded: &[&str]) {
    let path = &redirect.source.path;
    if !demanded.contains(&path.as_str()) {
        exactly(text, redirect, path);
    }
    if redirect.source.prefix {
        let opening = if path == "/" { "/".to_string() } else { format!("^~ {}", quoted(&format!("{path}/"))) };
        let _ = writeln!(text, "    location {opening} {{");
        below(text, redirect);
    }
}

/// The path itself: nothing is left of it but the query.
fn exactly(text: &mut String, redirect: &Redirect, path: &str) {
    let query = if redirect.keep_path { "$is_args$args" } else { "" };
    let target = format!("{}{query}", located(redirect.target.text(), redirect));
    let (path, status) = (quoted(path), redirect.status);
    let _ = writeln!(text, "    location = {path} {{\n        return {status} {};\n    }}", quoted(&target));
}

/// What lies below. The rest is cut from the raw request, so that it goes on as it came, encoding and all.
fn below(text: &mut String, redirect: &Redirect) {
    if redirect.keep_path {
        let depth = host_plan::depth(redirect);
        let raw = format!("^(?:/[^/?]*){{{depth}}}((?:/[^?]*)?(?:[?].*)?)$");
        let target = format!("{}$1", located(redirect.target.stem(), redirect));
        let (raw, target) = (quoted(&raw), quoted(&target));
        let _ = writeln!(
            text,
            "        if ($request_uri ~ {raw}) {{\n            return {} {target};\n        }}",
            redirect.status
        );
    }
    let target = quoted(&located(redirect.target.text(), redirect));
    let _ = writeln!(text, "        return {} {target};\n    }}", redirect.status);
}

/// A path on the same host is written out with the host as it was asked.
fn located(target: &str, redirect: &Redirect) -> String {
    match redirect.target {
        Target::Url(_) => target.to_string(),
        Target::Path(_) => format!("$scheme://$http_host{target}"),
    }
}

/// Where servers listen: at these addresses, or at all of the host's.
pub(super) fn listen_addresses(listen: &[IpAddr], ipv6: bool) -> Vec<String> {
    if !listen.is_empty() {
        return listen.iter().map(|address| bracketed(*address)).collect();
    }
    let mut all = vec!["*".to_string()];
    if ipv6 {
        all.push("[::]".into());
    }
    all
}

fn bracketed(address: IpAddr) -> String {
    if address.is_ipv6() { format!("[{address}]") } else { address.to_string() }
}

pub(super) fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
