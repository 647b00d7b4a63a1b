//! `init`: lays out a harbor. Finds the servers on this machine, writes only inside the harbor, and prints the one
//! line that each server's own main file needs. `discover` finds the servers, `inclusion` looks into their files, `again`
//! sets keys of a harbor that is there, `check` says what is missing.

mod again;
mod asking;
mod check;
mod discover;
mod inclusion;

use std::net::IpAddr;
use std::path::PathBuf;

use brightharbor_core::harbor::check_path;
use brightharbor_core::harbor::{Layout, Settings};
use brightharbor_core::name::DnsName;
use brightharbor_io::install::{lay_out, settings_place, write_settings};
use brightharbor_io::store::Store;
use clap::Args;
use serde_json::{Value, json};
use url::Url;

use self::again::{given_keys, set_keys};
use self::check::{check, closed_to_servers, closed_words};
use self::discover::{ServerChoice, discover, settings_text};
use self::inclusion::{Inclusion, all_in_effect, inclusions, inclusions_json, show_inclusions};
use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::files;
use crate::options::typed_address;
use crate::run::Context;
use crate::settings;
use crate::show::Shown;
use crate::show::human::Page;

/// Create a harbor: settings, inventory, folders. Finds web and DNS servers; edits none of their files. At a terminal, asks
/// for what the options do not say. In a harbor that is there, the options given set their keys in harbor.toml.
#[derive(Debug, Clone, Args)]
pub struct Init {
    /// An address of this machine that sites are served at. May be given several times.
    #[arg(long = "address", value_name = "ADDRESS", value_parser = typed_address)]
    addresses: Vec<IpAddr>,
    /// A nameserver of the set that domains are to be delegated to. May be given several times.
    #[arg(long = "nameserver", value_name = "NAME")]
    nameservers: Vec<DnsName>,
    #[command(flatten)]
    servers: ServerChoice,
    #[command(flatten)]
    ca: CaKeys,
    /// Take the settings from this file instead of looking for servers.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["addresses", "nameservers", "web", "dns", "directory", "contact", "terms_accepted"])]
    settings: Option<PathBuf>,
    /// Change nothing; say whether the servers' main files include the harbor's files.
    #[arg(long, conflicts_with_all = ["addresses", "nameservers", "web", "dns", "directory", "contact", "terms_accepted", "settings"])]
    check: bool,
    /// Show what would be written, and do nothing.
    #[arg(long)]
    dry_run: bool,
    /// Do not ask for confirmation.
    #[arg(long)]
    yes: bool,
}

/// The CA that certificates come from.
#[derive(Debug, Clone, Args)]
struct CaKeys {
    /// The URL of the CA's directory (RFC 8555).
    #[arg(long = "ca-directory", value_name = "URL")]
    directory: Option<String>,
    /// The mail address that the CA may write to about certificates.
    #[arg(long = "ca-contact", value_name = "ADDRESS")]
    contact: Option<String>,
    /// The CA's terms have been read, and are accepted.
    #[arg(long = "ca-terms-accepted")]
    terms_accepted: bool,
}

/// Whether it can be the URL of a CA's directory (RFC 8555 section 7.1.1).
fn is_directory(typed: &str) -> bool {
    Url::parse(typed).is_ok_and(|url| url.scheme() == "https" && url.has_host())
}

pub fn run(args: &Init, context: &Context) -> Report {
    if args.check {
        return check(context);
    }
    let layout = Layout::new(&context.root);
    check_path(&context.root)
        .map_err(|error| Error::wrong_use(error).advice("choose another folder for the harbor"))?;
    let given = given_keys(args)?;
    if !given.is_empty() && layout.inventory().exists() && layout.settings().exists() {
        return set_keys(args, &given, context);
    }
    if layout.inventory().exists() || layout.settings().exists() {
        let message = format!("a harbor already exists at {}", context.root.display());
        return Err(Error::refused("harbor-exists", message).advice("check it with `brightharbor init --check`, or set keys by options, as in `brightharbor init --address ADDRESS`"));
    }
    let place = settings_place(&layout);
    // Somebody, or something that looks after machines, has written them before.
    let is_written = place != layout.settings() && place.exists();
    if is_written && (args.settings.is_some() || !given.is_empty()) {
        let message = format!("{} already exists", place.display());
        return Err(Error::refused("in-the-way", message)
            .advice("take it as it is: brightharbor init; then set keys by options, or edit it"));
    }
    let mut args = args.clone();
    if !is_written && asking::can_be_asked(&args, context) {
        asking::ask(&mut args, &mut asking::Terminal);
    }
    let written = args.settings.clone().or(is_written.then(|| place.clone()));
    let (settings, found, text) = match &written {
        Some(file) => {
            let text = files::given_text(file, "give a file like harbor.toml; docs/settings.md explains every key")?;
            (settings::parse(&text, file)?, vec![format!("settings taken from {}", file.display())], text)
        }
        None => {
            let (mut settings, found) = discover(&args.servers)?;
            settings.host.addresses = args.addresses.clone();
            settings.host.nameservers = args.nameservers.clone();
            settings.ca.directory = args.ca.directory.clone();
            settings.ca.contact = args.ca.contact.clone();
            settings.ca.terms_accepted = args.ca.terms_accepted;
            let text = settings_text(&settings)?;
            (settings, found, text)
        }
    };
    let mut report = Laid { root: context.root.clone(), place, found, settings, text, done: false, checked: vec![] };
    if !args.dry_run {
        lay_out(&layout, report.settings.web.server, report.settings.dns.server)?;
        drop(Store::create(&layout.inventory())?);
        write_settings(&layout, &report.text)?;
        report.done = true;
        report.checked = inclusions(&report.settings, &layout);
    }
    Ok(Box::new(report))
}

struct Laid {
    root: PathBuf,
    /// Where the settings are.
    place: PathBuf,
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
            page.line("Dry run: nothing was changed. These settings would be written:");
            page.blank();
            self.text.lines().for_each(|line| page.line(line));
            return;
        }
        page.heading(&format!("Created the harbor at {root}."));
        self.found.iter().for_each(|line| page.hanging("  ", line));
        page.hanging("  ", &format!("wrote {}, the inventory and the folders", self.place.display()));
        if !self.checked.is_empty() {
            page.blank();
            page.line("The servers' own files are yours; nothing in them was changed.");
            show_inclusions(page, &self.checked);
        }
        if let Some(closed) = closed_to_servers(&self.settings, &self.root) {
            page.hanging("  closed: ", &closed_words(&closed));
        }
        if !self.missing().is_empty() {
            page.blank();
            page.line(&format!("Still to be set in {}:", self.place.display()));
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
