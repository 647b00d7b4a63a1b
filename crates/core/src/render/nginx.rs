//! The nginx file of one site.
//!
//! Paths are checked before they get here (`site::check_path`), hostnames are hostnames; both are quoted all the same.

use std::fmt::Write;

use super::{FINGERPRINT_PATH, PROOF_PATH, Served};

pub(super) fn render(served: &Served<'_>) -> String {
    let mut text = format!(
        "# Written by brightharbor for the site {}; a hand edit is replaced by the next change of the site.\n",
        served.site.main()
    );
    server(&mut text, served, false);
    if served.site.certificate.is_some() {
        server(&mut text, served, true);
    }
    text
}

fn server(text: &mut String, served: &Served<'_>, tls: bool) {
    let names: Vec<&str> = served.site.hostnames.iter().map(|name| name.as_str()).collect();
    text.push_str("server {\n");
    let port = if tls { served.https_port } else { served.http_port };
    let suffix = if tls { " ssl http2" } else { "" };
    for address in listen_addresses(served) {
        let _ = writeln!(text, "    listen {address}:{port}{suffix};");
    }
    let _ = writeln!(text, "    server_name {};", names.join(" "));
    let _ = writeln!(text, "    root {};", quoted(&served.site.document_root.to_string_lossy()));
    if let Some(files) = served.site.certificate.as_ref().filter(|_| tls) {
        let _ = writeln!(text, "    ssl_certificate {};", quoted(&files.chain().to_string_lossy()));
        let _ = writeln!(text, "    ssl_certificate_key {};", quoted(&files.key().to_string_lossy()));
        text.push_str("    ssl_protocols TLSv1.2 TLSv1.3;\n");
    }
    let proofs = format!("{}/", served.proofs.display());
    let _ = writeln!(text, "    location ^~ {PROOF_PATH} {{");
    let _ = writeln!(text, "        alias {};", quoted(&proofs));
    text.push_str("        default_type application/octet-stream;\n    }\n");
    let _ = writeln!(text, "    location = {FINGERPRINT_PATH} {{");
    text.push_str("        default_type text/plain;\n");
    let _ = writeln!(text, "        return 403 {};\n    }}", quoted(&served.fingerprint));
    text.push_str("    location / {\n");
    if served.forced() && !tls {
        let target = served.https_authority("$host");
        let _ = writeln!(text, "        return 301 https://{target}$request_uri;");
    } else {
        text.push_str("        index index.html index.htm;\n        try_files $uri $uri/ =404;\n");
    }
    text.push_str("    }\n}\n");
}

fn listen_addresses(served: &Served<'_>) -> Vec<String> {
    if !served.listen.is_empty() {
        return served
            .listen
            .iter()
            .map(|address| if address.is_ipv6() { format!("[{address}]") } else { address.to_string() })
            .collect();
    }
    let mut all = vec!["*".to_string()];
    if served.ipv6 {
        all.push("[::]".into());
    }
    all
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
