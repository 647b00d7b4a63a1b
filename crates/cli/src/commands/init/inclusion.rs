//! Whether the servers' own main files include what this harbor writes for them, and the line that does it.

use std::path::{Path, PathBuf};

use brightharbor_core::harbor::{DnsServer, Layout, Settings, WebServer};
use brightharbor_io::server::includes;
use serde_json::{Value, json};

use crate::show::human::Page;

/// A server's main file, the line it needs, and whether that is in effect.
pub struct Inclusion {
    server: &'static str,
    main_file: Option<PathBuf>,
    line: String,
    place: &'static str,
    in_effect: Result<bool, String>,
}

pub fn inclusions(settings: &Settings, layout: &Layout) -> Vec<Inclusion> {
    let sites = layout.site_files(settings.web.server);
    let web = match settings.web.server {
        WebServer::Nginx => Some(("nginx", format!("include {}/*.conf;", sites.display()), "in its http block")),
        WebServer::Apache => {
            Some(("Apache httpd", format!("IncludeOptional {}/*.conf", sites.display()), "at its end"))
        }
        WebServer::StandIn | WebServer::None => None,
    };
    let list = layout.zone_index(settings.dns.server);
    let line = match settings.dns.server {
        DnsServer::Bind => Some(format!("include \"{}\";", list.display())),
        DnsServer::Knot | DnsServer::Nsd => Some(format!("include: \"{}\"", list.display())),
        DnsServer::StandIn | DnsServer::None => None,
    };
    let dns = line.map(|line| (settings.dns.server.words(), line, "at its end"));
    let mut all = Vec::new();
    if let Some((server, line, place)) = web {
        let wanted = sites.join("*.conf");
        all.push(inclusion(server, settings.web.main_file.as_deref(), &wanted, line, place));
    }
    if let Some((server, line, place)) = dns {
        all.push(inclusion(server, settings.dns.main_file.as_deref(), &list, line, place));
    }
    all
}

fn inclusion(
    server: &'static str,
    main_file: Option<&Path>,
    wanted: &Path,
    line: String,
    place: &'static str,
) -> Inclusion {
    let in_effect = match main_file {
        Some(main_file) => includes(main_file, wanted).map_err(|error| error.to_string()),
        None => Err("harbor.toml names no main-file".into()),
    };
    Inclusion { server, main_file: main_file.map(Path::to_path_buf), line, place, in_effect }
}

pub fn show_inclusions(page: &mut Page, all: &[Inclusion]) {
    for one in all {
        let file = one.main_file.as_ref().map_or("its main file".into(), |file| file.display().to_string());
        match &one.in_effect {
            Ok(true) => page.hanging("  ", &format!("{}: {file} includes this harbor", one.server)),
            Ok(false) => {
                page.hanging("  ", &format!("{}: add this line to {file}, {}:", one.server, one.place));
                page.line(&format!("    {}", one.line));
            }
            Err(reason) => {
                page.hanging("  ", &format!("{}: cannot be told ({reason}); it needs this line:", one.server));
                page.line(&format!("    {}", one.line));
            }
        }
    }
}

pub fn inclusions_json(all: &[Inclusion]) -> Vec<Value> {
    all.iter()
        .map(|one| {
            json!({
                "server": one.server,
                "main_file": one.main_file.as_ref().map(|file| file.display().to_string()),
                "line": one.line,
                "in_effect": one.in_effect.as_ref().ok(),
            })
        })
        .collect()
}

pub fn all_in_effect(all: &[Inclusion]) -> bool {
    all.iter().all(|one| one.in_effect == Ok(true))
}
