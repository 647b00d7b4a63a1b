//! `site show`: everything that is known about one site, on one page.

use brightharbor_core::certificate::Certificate;
use brightharbor_core::render::is_as_written;
use brightharbor_core::site::{Site, SiteLogs, TlsFloor};
use brightharbor_core::zone::show_seconds;
use brightharbor_io::install::read_if_there;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_site, host};
use crate::error::Exit;
use crate::run::Context;
use crate::show::human::Page;
use crate::show::json::{ContentDocument, hosts_document};
use crate::show::words::{content_words, host_words, https_by_state, https_word, www_words};
use crate::show::{Shown, counted};

/// Show one site.
#[derive(Debug, Args)]
pub struct Show {
    /// One of its hostnames.
    hostname: String,
}

pub fn run(args: &Show, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let harbor = context.open()?;
    let site = find_site(&harbor, &name)?;
    let file = harbor.layout.site_file(harbor.settings.web.server, site.main());
    let content = read_if_there(&file)?;
    Ok(Box::new(SitePage {
        certificate: harbor.store.certificate_of(site.main())?,
        by_hand: content.as_ref().is_some_and(|content| !is_as_written(content)),
        logs: harbor.settings.sites.logs.as_deref().map(|folder| SiteLogs::of(folder, &site)),
        file: content.map(|_| file.display().to_string()),
        site,
    }))
}

struct SitePage {
    site: Site,
    certificate: Option<Certificate>,
    logs: Option<SiteLogs>,
    /// The web server's file, if there is one, and whether somebody has changed it.
    file: Option<String>,
    by_hand: bool,
}

impl Shown for SitePage {
    fn human(&self, page: &mut Page) {
        let site = &self.site;
        page.heading(&format!("{}: {} of {}", site.main(), site.kind.words(), site.account));
        let mut field = |name: &str, text: &str| page.hanging(&format!("  {name:<14}"), text);
        let names = site.hostnames.iter().map(host_words).collect::<Vec<_>>().join(", ");
        field("hostnames", &names);
        field("document root", &site.document_root.display().to_string());
        let parts = site.rules.content.all_parts();
        for (path, by) in parts.iter().filter(|_| site.rules.content.runs_programs() || parts.len() > 1) {
            field("answers", &format!("{path}: {}", by.words()));
        }
        for (name, words) in content_words(&site.rules.content) {
            field(name, &words);
        }
        field("www", www_words(site.rules.www));
        for (words, hosts) in https_by_state(site) {
            field("https", &format!("{words}{hosts}"));
        }
        field("TLS", if site.rules.tls == TlsFloor::Tls12 { "1.2 and 1.3" } else { "only 1.3" });
        let hsts = site.rules.hsts.map_or("off".into(), |seconds| format!("for {}", show_seconds(seconds.into())));
        field("HSTS", &hsts);
        let certificate = self.certificate.as_ref().map_or("none".into(), |certificate| {
            let names = counted(certificate.names.len(), "name");
            format!("until {}, for {names}", certificate.not_after.strftime("%Y-%m-%d"))
        });
        field("certificate", &certificate);
        field(
            "redirects",
            &match site.rules.redirects.len() {
                0 => "none".to_string(),
                count => format!("{count}: see `brightharbor redirect list --with {}`", site.main()),
            },
        );
        if let Some(logs) = &self.logs {
            field("requests", &logs.access.display().to_string());
            field("errors", &logs.errors.display().to_string());
        }
        if let Some(file) = &self.file {
            field("file", &format!("{file}{}", if self.by_hand { ", edited by hand" } else { "" }));
        }
    }

    fn json(&self) -> Value {
        let site = &self.site;
        json!({
            "command": "site show",
            "site": {
                "hostnames": site.hostnames,
                "kind": site.kind.words(),
                "account": site.account,
                "document_root": site.document_root.display().to_string(),
                "content": ContentDocument::from(&*site.rules.content),
                "www": site.rules.www,
                "https": https_word(site.https_of(site.main())),
                "hosts": hosts_document(site),
                "https_policy": site.rules.https_policy,
                "tls_from": if site.rules.tls == TlsFloor::Tls12 { "1.2" } else { "1.3" },
                "hsts_seconds": site.rules.hsts,
                "redirects": site.rules.redirects.len(),
            },
            "certificate": self.certificate.as_ref().map(|certificate| json!({
                "names": certificate.names,
                "not_after": certificate.not_after.to_string(),
                "folder": certificate.files.folder().display().to_string(),
            })),
            "logs": self.logs.as_ref().map(|logs| json!({
                "access": logs.access.display().to_string(),
                "errors": logs.errors.display().to_string(),
            })),
            "file": self.file,
            "changed_by_hand": self.by_hand,
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
