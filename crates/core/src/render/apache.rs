//! The Apache httpd file of one site: a virtual host a hostname and port, since a redirect names its host.
//!
//! Needs mod_alias, mod_dir and mod_ssl. Paths are checked before they get here (`site::check_path`).

use std::fmt::Write;

use super::{FINGERPRINT_PATH, PROOF_PATH, Served};
use crate::name::Hostname;

pub(super) fn render(served: &Served<'_>) -> String {
    let mut text = format!(
        "# Written by brightharbor for the site {}; a hand edit is replaced by the next change of the site.\n",
        served.site.main()
    );
    let root = quoted(&served.site.document_root.to_string_lossy());
    let _ = writeln!(text, "<Directory {root}>\n    Require all granted\n    Options SymLinksIfOwnerMatch");
    text.push_str("    AllowOverride None\n</Directory>\n");
    let _ = writeln!(
        text,
        "<Directory {}>\n    Require all granted\n</Directory>",
        quoted(&served.proofs.to_string_lossy())
    );
    for hostname in &served.site.hostnames {
        virtual_host(&mut text, served, hostname, false);
        if served.site.certificate.is_some() {
            virtual_host(&mut text, served, hostname, true);
        }
    }
    text
}

fn virtual_host(text: &mut String, served: &Served<'_>, hostname: &Hostname, tls: bool) {
    let port = if tls { served.https_port } else { served.http_port };
    let addresses: Vec<String> = if served.listen.is_empty() {
        vec![format!("*:{port}")]
    } else {
        served
            .listen
            .iter()
            .map(|address| if address.is_ipv6() { format!("[{address}]:{port}") } else { format!("{address}:{port}") })
            .collect()
    };
    let _ = writeln!(text, "<VirtualHost {}>", addresses.join(" "));
    let _ = writeln!(text, "    ServerName {hostname}");
    let _ = writeln!(text, "    DocumentRoot {}", quoted(&served.site.document_root.to_string_lossy()));
    text.push_str("    DirectoryIndex index.html index.htm\n");
    if let Some(files) = served.site.certificate.as_ref().filter(|_| tls) {
        text.push_str("    SSLEngine on\n    SSLProtocol -all +TLSv1.2 +TLSv1.3\n");
        let _ = writeln!(text, "    SSLCertificateFile {}", quoted(&files.chain().to_string_lossy()));
        let _ = writeln!(text, "    SSLCertificateKeyFile {}", quoted(&files.key().to_string_lossy()));
    }
    let proofs = format!("{}/", served.proofs.display());
    let _ = writeln!(text, "    Alias {} {}", quoted(PROOF_PATH), quoted(&proofs));
    // A denied path with a text of its own: it needs no file and no further module.
    let _ = writeln!(text, "    <Location {}>\n        Require all denied", quoted(FINGERPRINT_PATH));
    let _ = writeln!(text, "        ErrorDocument 403 {}\n    </Location>", quoted(&served.fingerprint));
    if served.forced() && !tls {
        let target = served.https_authority(hostname.as_str());
        let _ = writeln!(
            text,
            "    RedirectMatch 301 \"^/(?!\\.well-known/acme-challenge/|\\.well-known/bright-harbor$)(.*)$\" \"https://{target}/$1\""
        );
    }
    text.push_str("</VirtualHost>\n");
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}
