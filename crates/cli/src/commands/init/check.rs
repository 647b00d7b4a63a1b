//! `init --check`: what is not in effect, clashes, is missing or closed. Changes nothing.

use std::path::{Path, PathBuf};

use brightharbor_core::harbor::{DnsServer, Settings, WebServer};
use brightharbor_core::render::{Clash, ClashKind};
use brightharbor_io::install::{closed_above, open_keys};
use brightharbor_io::load::listener_clash;
use brightharbor_io::server::{MissingModules, ask_missing_modules, is_program};
use serde_json::{Value, json};

use super::inclusion::{Inclusion, all_in_effect, inclusions, inclusions_json, show_inclusions};
use crate::commands::Report;
use crate::error::Exit;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;

/// So many keys are named one by one.
const MOST_KEYS: usize = 5;

pub(super) fn check(context: &Context) -> Report {
    let harbor = context.open()?;
    context.progress.doing("looking through the inventory");
    harbor.store.check_thoroughly()?;
    let unset = unset(&harbor.settings);
    let clash = listener_clash(&harbor);
    let modules = context.block_on(ask_missing_modules(&harbor.settings))?.map_err(|error| error.to_string());
    let server = harbor.settings.web.server;
    let inclusions = inclusions(&harbor.settings, &harbor.layout);
    let closed = closed_to_servers(&harbor.settings, harbor.layout.root());
    let open_keys = open_keys(&harbor.layout, &harbor.settings);
    let commands = harbor.settings.commands();
    let missing = commands.iter().filter(|(_, words)| !is_program(&words[0]));
    let no_programs = missing.map(|(key, words)| (key.clone(), words[0].clone())).collect();
    Ok(Box::new(Checked { server, inclusions, clash, modules, no_programs, unset, closed, open_keys }))
}

struct Checked {
    server: WebServer,
    inclusions: Vec<Inclusion>,
    /// A block of the web server's own configuration that cannot stand beside ours, with its file.
    clash: Option<(PathBuf, Clash)>,
    /// Modules that the web server lacks, if it told; or why that cannot be told.
    modules: Result<Option<MissingModules>, String>,
    /// Commands of harbor.toml whose program is not there: the key, and the program.
    no_programs: Vec<(String, String)>,
    /// The keys of harbor.toml that sites and certificates need and that are not set.
    unset: Vec<&'static str>,
    /// A folder on the way to the harbor that the servers' users cannot enter.
    closed: Option<PathBuf>,
    /// Files of keys that others can read.
    open_keys: Vec<PathBuf>,
}

/// Servers that run as users of their own read sites and zones here.
pub(super) fn closed_to_servers(settings: &Settings, root: &Path) -> Option<PathBuf> {
    let web = matches!(settings.web.server, WebServer::Nginx | WebServer::Apache);
    let dns = matches!(settings.dns.server, DnsServer::Bind | DnsServer::Knot | DnsServer::Nsd);
    closed_above(root).filter(|_| web || dns)
}

pub(super) fn closed_words(closed: &Path) -> String {
    format!(
        "{} cannot be entered by others than its owner, so that the servers find no site and no zone: chmod o+x, or a harbor \
         elsewhere",
        closed.display()
    )
}

/// What is not set, as far as something will ask for it.
fn unset(settings: &Settings) -> Vec<&'static str> {
    let has_file = matches!(settings.web.server, WebServer::Nginx | WebServer::Apache);
    let keys = [
        ("[host] addresses", settings.host.addresses.is_empty()),
        ("[host] nameservers", settings.host.nameservers.is_empty()),
        ("[web] main-file", has_file && settings.web.main_file.is_none()),
        ("[ca] directory", settings.ca.directory.is_none()),
        ("[ca] contact", settings.ca.contact.is_none()),
        ("[ca] terms-accepted", !settings.ca.terms_accepted),
    ];
    keys.into_iter().filter(|(_, missing)| *missing).map(|(key, _)| key).collect()
}

/// What cannot stand side by side, and the key to set.
fn clash_words((file, Clash { line, port, kind }): &(PathBuf, Clash)) -> String {
    let at = format!("{}:{line}", file.display());
    match kind {
        ClashKind::TakesOurs(address) => format!(
            "the block at {at} takes all connections to {address}:{port}: set listen = [\"{address}\"] under [web]"
        ),
        ClashKind::LosesTheirs(address) => format!(
            "the names of the block at {at} are not answered at {address}:{port}, where sites of this harbor listen: give it \
             `listen {address}:{port}` too, or leave `listen` under [web] out"
        ),
    }
}

/// What the web server lacks, and how it comes by it.
fn module_words(server: WebServer, missing: &[&str]) -> String {
    let names = missing.join(", ");
    match server {
        WebServer::Apache => {
            let short: Vec<&str> = missing.iter().map(|name| name.trim_end_matches("_module")).collect();
            format!("Apache httpd lacks {names}: load them with LoadModule, or on Debian: a2enmod {}", short.join(" "))
        }
        _ => format!("nginx lacks {names}: sites here need a build that has them"),
    }
}

impl Checked {
    fn missing(&self) -> Option<&MissingModules> {
        self.modules.as_ref().ok().and_then(Option::as_ref)
    }
}

impl Shown for Checked {
    fn human(&self, page: &mut Page) {
        page.heading(if all_in_effect(&self.inclusions) {
            "The servers include this harbor's files."
        } else {
            "A server does not include this harbor's files yet."
        });
        show_inclusions(page, &self.inclusions);
        if let Some(clash) = &self.clash {
            page.hanging("  listeners: ", &clash_words(clash));
        }
        match &self.modules {
            Ok(None) => {}
            Ok(Some(MissingModules { for_all, for_programs })) => {
                if !for_all.is_empty() {
                    page.hanging("  modules: ", &module_words(self.server, for_all));
                }
                if !for_programs.is_empty() {
                    let words = module_words(self.server, for_programs);
                    page.hanging(
                        "  modules: ",
                        &format!("for sites that run programs or have protected paths, {words}"),
                    );
                }
            }
            Err(reason) => page.hanging("  modules: ", &format!("cannot be told ({reason})")),
        }
        for (key, program) in &self.no_programs {
            page.hanging("  command: ", &format!("{key} names {program}, and there is no such program here"));
        }
        if let Some(closed) = &self.closed {
            page.hanging("  closed: ", &closed_words(closed));
        }
        for key in self.open_keys.iter().take(MOST_KEYS) {
            page.hanging("  key: ", &format!("others can read it: chmod 600 {}", key.display()));
        }
        if self.open_keys.len() > MOST_KEYS {
            page.hanging(
                "  key: ",
                &format!("and {} more keys that others can read", self.open_keys.len() - MOST_KEYS),
            );
        }
        if !self.unset.is_empty() {
            page.hanging("  not set in harbor.toml: ", &self.unset.join(", "));
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "init",
            "check": inclusions_json(&self.inclusions),
            "listener_clash": self.clash.as_ref().map(|(file, clash)| json!({
                "file": file.display().to_string(),
                "line": clash.line,
                "address": match clash.kind {
                    ClashKind::TakesOurs(address) | ClashKind::LosesTheirs(address) => address.to_string(),
                },
                "port": clash.port,
                "takes": if matches!(clash.kind, ClashKind::TakesOurs(_)) { "ours" } else { "theirs" },
            })),
            "missing_modules": self.missing().map(|missing| &missing.for_all),
            "missing_for_programs": self.missing().map(|missing| &missing.for_programs),
            "no_programs": self.no_programs.iter().map(|(key, program)| json!({ "key": key, "program": program })).collect::<Vec<_>>(),
            "unset": self.unset,
            "open_keys": self.open_keys.iter().map(|key| key.display().to_string()).collect::<Vec<_>>(),
            "closed": self.closed.as_ref().map(|closed| closed.display().to_string()),
        })
    }

    fn exit(&self) -> Exit {
        let lacks_modules = self.missing().is_some_and(|missing| !missing.for_all.is_empty());
        let is_safe = self.no_programs.is_empty() && self.closed.is_none() && self.open_keys.is_empty();
        let stands = all_in_effect(&self.inclusions) && self.clash.is_none() && !lacks_modules && is_safe;
        if stands { Exit::Done } else { Exit::Waits }
    }
}
