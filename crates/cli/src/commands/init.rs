//! `init`: lays out a harbor. Finds the servers on this machine, writes only inside the harbor, and prints the one
//! line that each server's own main file needs.

use std::net::IpAddr;
use std::path::{Path, PathBuf};

use brightharbor_core::harbor::{DnsServer, Layout, Settings, WebServer};
use brightharbor_core::name::DnsName;
use brightharbor_core::site::check_path;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{lay_out, write_atomically};
use brightharbor_io::server::{find_servers, includes};
use brightharbor_io::store::Store;
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::settings;
use crate::show::Shown;
use crate::show::human::Page;

/// Lay out a harbor: settings, inventory, folders. Finds nginx, Apache httpd and BIND; edits none of their files.
#[derive(Debug, Args)]
pub struct Init {
    /// An address of this machine that sites are served at. May be given several times.
    #[arg(long = "address", value_name = "ADDRESS")]
    addresses: Vec<IpAddr>,
    /// A nameserver of the set that domains are to be delegated to. May be given several times.
    #[arg(long = "nameserver", value_name = "NAME")]
    nameservers: Vec<DnsName>,
    /// Which web server to drive, where several are found.
    #[arg(long, value_enum)]
    web: Option<WebArgument>,
    /// Take the settings from this file instead of looking for servers.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["addresses", "nameservers", "web"])]
    settings: Option<PathBuf>,
    /// Change nothing; say whether the servers' main files include the harbor's files.
    #[arg(long, conflicts_with_all = ["addresses", "nameservers", "web", "settings"])]
    check: bool,
    /// Show what would be written, and do nothing.
    #[arg(long)]
    dry_run: bool,
    /// Go on without asking.
    #[arg(long)]
    yes: bool,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum WebArgument {
    Nginx,
    Apache,
    None,
}

pub fn run(args: &Init, context: &Context) -> Report {
    if args.check {
        return check(context);
    }
    let layout = Layout::new(&context.root);
    check_path(&context.root)
        .map_err(|error| Error::wrong_use(error).advice("choose another folder for the harbor"))?;
    if layout.inventory().exists() || layout.settings().exists() {
        let message = format!("there is a harbor at {} already", context.root.display());
        return Err(Error::refused("harbor-exists", message).advice("see how it stands: brightharbor init --check"));
    }
    let (settings, found) = match &args.settings {
        Some(file) => {
            let text = std::fs::read_to_string(file)
                .map_err(|error| Error::wrong_use(format!("{}: {error}", file.display())))?;
            (settings::parse(&text, file)?, vec![format!("settings taken from {}", file.display())])
        }
        None => discover(args)?,
    };
    let text = match &args.settings {
        Some(file) => std::fs::read_to_string(file).map_err(|error| Error::wrong_use(error.to_string()))?,
        None => write_settings(&settings)?,
    };
    let mut report = Laid { root: context.root.clone(), found, settings, text, done: false, checked: vec![] };
    if !args.dry_run {
        lay_out(&layout, report.settings.web.server, report.settings.dns.server)?;
        drop(Store::create(&layout.inventory())?);
        write_atomically(&layout.settings(), report.text.as_bytes(), 0o644)?;
        report.done = true;
        report.checked = inclusions(&report.settings, &layout);
    }
    Ok(Box::new(report))
}

/// The settings that fit what is found on this machine, and what was found in words.
fn discover(args: &Init) -> Result<(Settings, Vec<String>), Error> {
    let found = find_servers(&std::env::var("PATH").unwrap_or_default());
    let mut said = Vec::new();
    let mut settings = Settings::default();
    settings.host.addresses = args.addresses.clone();
    settings.host.nameservers = args.nameservers.clone();
    for web in &found.web {
        said.push(format!("found {} at {}", name_of_web(web.server), web.program.display()));
    }
    let wanted = match args.web {
        Some(WebArgument::Nginx) => Some(WebServer::Nginx),
        Some(WebArgument::Apache) => Some(WebServer::Apache),
        Some(WebArgument::None) => None,
        None => found.web.first().map(|web| web.server),
    };
    if let Some(server) = wanted {
        let web = found.web.iter().find(|web| web.server == server).ok_or_else(|| {
            Error::refused("no-server", format!("{} was not found on this machine", name_of_web(server)))
                .advice("install it, or choose another one with --web")
        })?;
        settings.web.server = server;
        settings.web.test = web.test.clone();
        settings.web.reload = web.reload.clone();
        settings.web.main_file = Some(web.main_file.clone());
    } else {
        said.push("no web server is driven".into());
    }
    match found.dns {
        Some(dns) => {
            said.push(format!("found BIND at {}", dns.program.display()));
            settings.dns.server = dns.server;
            settings.dns.check = dns.check;
            settings.dns.control_command = dns.control_command;
            settings.dns.main_file = Some(dns.main_file);
            settings.dns.address = Some(([127, 0, 0, 1], 53).into());
        }
        None => said.push("found no DNS server".into()),
    }
    Ok((settings, said))
}

fn name_of_web(server: WebServer) -> &'static str {
    match server {
        WebServer::Nginx => "nginx",
        WebServer::Apache => "Apache httpd",
        WebServer::StandIn => "the stand-in web server",
        WebServer::None => "no web server",
    }
}

fn write_settings(settings: &Settings) -> Result<String, Error> {
    let body = toml::to_string(settings).map_err(|error| Error::refused("settings", error))?;
    Ok(format!(
        "# The settings of this harbor. Every key is explained in docs/settings.md; a misspelt one is refused.\n\n{body}"
    ))
}

/// A server's main file, the line it needs, and whether that is in effect.
struct Inclusion {
    server: &'static str,
    main_file: Option<PathBuf>,
    line: String,
    place: &'static str,
    in_effect: Result<bool, String>,
}

fn inclusions(settings: &Settings, layout: &Layout) -> Vec<Inclusion> {
    let sites = layout.site_files(settings.web.server);
    let web = match settings.web.server {
        WebServer::Nginx => Some(("nginx", format!("include {}/*.conf;", sites.display()), "in its http block")),
        WebServer::Apache => {
            Some(("Apache httpd", format!("IncludeOptional {}/*.conf", sites.display()), "at its end"))
        }
        WebServer::StandIn | WebServer::None => None,
    };
    let list = layout.zone_index();
    let dns = match settings.dns.server {
        DnsServer::Bind => Some(("BIND", format!("include \"{}\";", list.display()), "at its end")),
        DnsServer::StandIn | DnsServer::None => None,
    };
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

fn show_inclusions(page: &mut Page, all: &[Inclusion]) {
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

fn inclusions_json(all: &[Inclusion]) -> Vec<Value> {
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

fn all_in_effect(all: &[Inclusion]) -> bool {
    all.iter().all(|one| one.in_effect == Ok(true))
}

fn check(context: &Context) -> Report {
    let Harbor { layout, settings, .. } = context.open()?;
    Ok(Box::new(Checked { inclusions: inclusions(&settings, &layout) }))
}

struct Checked {
    inclusions: Vec<Inclusion>,
}

impl Shown for Checked {
    fn human(&self, page: &mut Page) {
        page.heading(if all_in_effect(&self.inclusions) {
            "The servers include this harbor's files."
        } else {
            "A server does not include this harbor's files yet."
        });
        show_inclusions(page, &self.inclusions);
    }

    fn json(&self) -> Value {
        json!({ "command": "init", "check": inclusions_json(&self.inclusions) })
    }

    fn exit(&self) -> Exit {
        if all_in_effect(&self.inclusions) { Exit::Done } else { Exit::Waits }
    }
}

struct Laid {
    root: PathBuf,
    found: Vec<String>,
    settings: Settings,
    text: String,
    done: bool,
    checked: Vec<Inclusion>,
}

impl Laid {
    /// What an administrator has to fill in before the first attach.
    fn missing(&self) -> Vec<&'static str> {
        let mut missing = Vec::new();
        if self.settings.host.addresses.is_empty() {
            missing.push("addresses under [host]: where sites are served");
        }
        if self.settings.host.nameservers.is_empty() {
            missing.push("nameservers under [host]: what domains are to be delegated to");
        }
        if self.settings.ca.directory.is_none() {
            missing.push("directory under [ca]: the CA that certificates come from");
        }
        missing
    }
}

impl Shown for Laid {
    fn human(&self, page: &mut Page) {
        let root = self.root.display();
        if !self.done {
            page.line("Nothing was done. These settings would be written:");
            page.blank();
            self.text.lines().for_each(|line| page.line(line));
            return;
        }
        page.heading(&format!("The harbor at {root} is laid out."));
        self.found.iter().for_each(|line| page.hanging("  ", line));
        page.hanging("  ", &format!("wrote {root}/harbor.toml, the inventory and the folders"));
        if !self.checked.is_empty() {
            page.blank();
            page.line("The servers' own files are yours; nothing in them was changed.");
            show_inclusions(page, &self.checked);
        }
        if !self.missing().is_empty() {
            page.blank();
            page.line(&format!("Still to be set in {root}/harbor.toml:"));
            self.missing().iter().for_each(|line| page.hanging("  ", line));
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "init",
            "carried_out": self.done,
            "harbor": self.root.display().to_string(),
            "found": self.found,
            "settings": self.text,
            "check": inclusions_json(&self.checked),
            "missing": self.missing(),
        })
    }

    fn exit(&self) -> Exit {
        let settled = self.missing().is_empty() && all_in_effect(&self.checked);
        if settled || !self.done { Exit::Done } else { Exit::Waits }
    }
}
