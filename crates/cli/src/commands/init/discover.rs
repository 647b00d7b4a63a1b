//! The settings that fit the servers found on this machine.

use brightharbor_core::harbor::{Dns, DnsServer, Php, Settings, WebServer};
use brightharbor_io::server::{FoundDns, find_servers};
use clap::{Args, ValueEnum};

use crate::error::Error;

/// Which servers to drive, where several are found.
#[derive(Debug, Clone, Args)]
pub struct ServerChoice {
    /// Which web server to drive, where several are found.
    #[arg(long, value_enum)]
    web: Option<WebArgument>,
    /// Which DNS server to drive, where several are found.
    #[arg(long, value_enum)]
    dns: Option<DnsArgument>,
}

impl ServerChoice {
    /// Whether a web server was chosen, and whether a DNS server was.
    pub fn given(&self) -> (bool, bool) {
        (self.web.is_some(), self.dns.is_some())
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum WebArgument {
    Nginx,
    Apache,
    None,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum DnsArgument {
    Bind,
    Knot,
    Nsd,
    None,
}

/// The settings that fit what is found on this machine, and what was found in words.
pub fn discover(choice: &ServerChoice) -> Result<(Settings, Vec<String>), Error> {
    let found = find_servers(&std::env::var("PATH").unwrap_or_default());
    let mut said = Vec::new();
    let mut settings = Settings::default();
    for web in &found.web {
        said.push(format!("found {} at {}", name_of_web(web.server), web.program.display()));
    }
    let wanted = match choice.web {
        Some(WebArgument::Nginx) => Some(WebServer::Nginx),
        Some(WebArgument::Apache) => Some(WebServer::Apache),
        Some(WebArgument::None) => None,
        None => found.web.first().map(|web| web.server),
    };
    if let Some(server) = wanted {
        let web = found.web.iter().find(|web| web.server == server);
        let web = web.ok_or_else(|| not_found(name_of_web(server), "--web"))?;
        settings.web.server = server;
        settings.web.test = web.test.clone();
        settings.web.reload = web.reload.clone();
        settings.web.main_file = Some(web.main_file.clone());
        settings.web.group = web.group.clone();
    } else {
        said.push("no web server is driven".into());
    }
    for php in &found.php {
        said.push(format!("found PHP {} at {}", php.version, php.program.display()));
        settings.php.insert(php.version.clone(), Php::of(&php.pool_folder, &php.test, &php.reload));
    }
    for dns in &found.dns {
        said.push(format!("found {} at {}", dns.server.words(), dns.program.display()));
    }
    let several = (found.web.len() > 1 && choice.web.is_none(), found.dns.len() > 1 && choice.dns.is_none());
    let wanted = match choice.dns {
        Some(DnsArgument::Bind) => Some(DnsServer::Bind),
        Some(DnsArgument::Knot) => Some(DnsServer::Knot),
        Some(DnsArgument::Nsd) => Some(DnsServer::Nsd),
        Some(DnsArgument::None) => None,
        None => found.dns.first().map(|dns| dns.server),
    };
    match wanted {
        Some(server) => {
            let dns = found.dns.into_iter().find(|dns| dns.server == server);
            settings.dns = dns.map(dns_settings).ok_or_else(|| not_found(server.words(), "--dns"))?;
        }
        None => said.push("no DNS server is driven".into()),
    }
    if several.0 {
        said.push(format!("{} is driven; choose another one with --web", name_of_web(settings.web.server)));
    }
    if several.1 {
        said.push(format!("{} is driven; choose another one with --dns", settings.dns.server.words()));
    }
    Ok((settings, said))
}

fn dns_settings(found: FoundDns) -> Dns {
    Dns {
        server: found.server,
        check: found.check,
        control_command: found.control_command,
        main_file: Some(found.main_file),
        directory: found.directory,
        address: Some(([127, 0, 0, 1], 53).into()),
        ..Dns::default()
    }
}

fn not_found(server: &str, option: &str) -> Error {
    Error::refused("no-server", format!("{server} was not found on this machine"))
        .advice(format!("install it, or choose another one with {option}"))
}

fn name_of_web(server: WebServer) -> &'static str {
    match server {
        WebServer::Nginx => "nginx",
        WebServer::Apache => "Apache httpd",
        WebServer::StandIn => "the stand-in web server",
        WebServer::None => "no web server",
    }
}

pub fn settings_text(settings: &Settings) -> Result<String, Error> {
    let body = toml::to_string(settings).map_err(|error| Error::refused("settings", error))?;
    Ok(format!(
        "# The settings of this harbor. Every key is explained in docs/settings.md; a misspelt one is refused.\n\n{body}"
    ))
}
