//! What an administrator has settled (`harbor.toml`) and where things lie inside a harbor.
//!
//! Plain values with serde derives: reading the file is for the command-line crate, using it for all the others.

mod ca;
mod given_keys;
mod layout;
mod notify;
mod path;
mod php;
mod server_address;
mod service;

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::account::AccountName;
use crate::delegation::Ds;
use crate::name::{DnsName, Hostname};
pub use ca::{Ca, ExternalAccount, WhenUrgent};
pub use given_keys::{GivenKeys, SettingsFile, change_settings};
pub use layout::Layout;
pub use notify::Notify;
pub use path::{PathError, check_path};
pub use php::{Php, socket_in};
pub use server_address::ServerAddress;
pub use service::Service;

/// `harbor.toml`. Every table may be left out; unknown keys are refused, since a misspelt one would be ignored.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Settings {
    #[serde(default)]
    pub host: Host,
    #[serde(default)]
    pub sites: Sites,
    #[serde(default)]
    pub web: Web,
    /// Versions of PHP whose pools are written here, by their numbers.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub php: BTreeMap<String, Php>,
    #[serde(default)]
    pub dns: Dns,
    /// Primary servers elsewhere that take changes by UPDATE, by names of the administrator's own.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub primaries: BTreeMap<String, Primary>,
    /// Servers that get the zones of this harbor by transfer.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub secondaries: Vec<Secondary>,
    /// Nameserver sets beside that of `[host]`, by name.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub nameserver_sets: BTreeMap<String, NameserverSet>,
    #[serde(default)]
    pub ca: Ca,
    /// CAs beside that of `[ca]`, by names of the administrator's own.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub cas: BTreeMap<String, Ca>,
    /// Other services that need a certificate, by names of the administrator's own.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub services: BTreeMap<String, Service>,
    /// The command that is notified of changes.
    #[serde(default, skip_serializing_if = "Notify::is_usual")]
    pub notify: Notify,
    #[serde(default)]
    pub internet: Internet,
}

/// This machine as the world sees it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Host {
    /// The addresses that sites are served at: they go into the zones.
    #[serde(default)]
    pub addresses: Vec<IpAddr>,
    /// The nameserver set that domains are expected to be delegated to.
    #[serde(default)]
    pub nameservers: Vec<DnsName>,
    /// The addresses of those nameservers that lie inside a domain of this harbor: they go into its zone, and to the
    /// registrar as glue.
    #[serde(default)]
    pub nameserver_addresses: BTreeMap<DnsName, Vec<IpAddr>>,
    /// The mailbox in the SOA record, with a dot for the `@` (RFC 1035 section 8).
    #[serde(default)]
    pub hostmaster: Option<DnsName>,
    /// The mail servers of domains whose mail is kept here, the preferred one first.
    #[serde(default)]
    pub mail_servers: Vec<DnsName>,
}

/// Names with addresses that domains are delegated to together.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NameserverSet {
    pub nameservers: Vec<DnsName>,
    /// The addresses of those that lie inside a domain of this harbor.
    #[serde(default)]
    pub addresses: BTreeMap<DnsName, Vec<IpAddr>>,
    /// For how many domains it was made; any number when not said.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capacity: Option<u32>,
    /// The account that it is for, with names of its own; anybody may use one that is nobody's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<AccountName>,
}

/// A primary server elsewhere, changed by UPDATE (RFC 2136) and read by AXFR (RFC 5936), both signed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Primary {
    pub address: ServerAddress,
    /// The file of the transaction key (TSIG); only its owner may be able to read it.
    pub key_file: PathBuf,
}

/// A server that gets zones by transfer (RFC 5936) once it was notified (RFC 1996).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Secondary {
    pub name: DnsName,
    pub address: ServerAddress,
    /// The file of the transaction key (TSIG) that its transfers are signed with. The server here must know the key too.
    pub key_file: PathBuf,
    /// The address that notifications leave from: the one it knows this primary by. That of the DNS server here, unless said.
    #[serde(default)]
    pub notify_from: Option<IpAddr>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Sites {
    /// Where a new document root goes; `{home}` and `{hostname}` are filled in.
    #[serde(default = "default_document_root")]
    pub document_root: String,
    /// The home of a new account unless one is given; `{account}` is filled in.
    #[serde(default = "default_home")]
    pub home: String,
    /// Domains of the provider that any account may have names below.
    #[serde(default)]
    pub provider_domains: Vec<Hostname>,
    /// The folder for the logs of sites, one folder an account in it; the web server's own log when left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub logs: Option<PathBuf>,
}

impl Default for Sites {
    fn default() -> Self {
        Self { document_root: default_document_root(), home: default_home(), provider_domains: vec![], logs: None }
    }
}

fn default_document_root() -> String {
    "{home}/www/{hostname}".into()
}

fn default_home() -> String {
    "/home/{account}".into()
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WebServer {
    Nginx,
    Apache,
    /// The loopback web server of the demo and the tests.
    StandIn,
    #[default]
    None,
}

impl WebServer {
    /// As the settings name it.
    pub fn word(self) -> &'static str {
        match self {
            WebServer::Nginx => "nginx",
            WebServer::Apache => "apache",
            WebServer::StandIn => "stand-in",
            WebServer::None => "none",
        }
    }

    /// Whether it asks CAs itself for the statements that certificates are shown with, and takes none from a file.
    pub fn fetches_staples(self) -> bool {
        self == WebServer::Apache
    }
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DnsServer {
    Bind,
    Knot,
    Nsd,
    /// The loopback DNS host of the demo and the tests.
    StandIn,
    #[default]
    None,
}

impl DnsServer {
    /// Whether it reads its zones from a list that this program keeps.
    pub fn reads_zone_list(self) -> bool {
        matches!(self, DnsServer::Bind | DnsServer::Knot | DnsServer::Nsd)
    }

    pub fn words(self) -> &'static str {
        match self {
            DnsServer::Bind => "BIND",
            DnsServer::Knot => "Knot DNS",
            DnsServer::Nsd => "NSD",
            DnsServer::StandIn => "the stand-in DNS host",
            DnsServer::None => "no DNS server",
        }
    }
}

/// How BIND learns of a new zone.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NewZones {
    /// By its stanza in the zone list of the harbor and `rndc reconfig`, which takes longer the more zones there are.
    #[default]
    List,
    /// By `rndc addzone`, which does not; BIND itself remembers the zone. Needs `allow-new-zones yes` there.
    Addzone,
}

/// The web server and how it is tested and reloaded.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Web {
    #[serde(default)]
    pub server: WebServer,
    /// The config test, as a command with its arguments.
    #[serde(default)]
    pub test: Vec<String>,
    #[serde(default)]
    pub reload: Vec<String>,
    /// The server's own main file; `init --check` looks there for the include line.
    #[serde(default)]
    pub main_file: Option<PathBuf>,
    /// The group of the server's workers. With it, new document roots are for their account and this group alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub group: Option<String>,
    /// The addresses to listen on; all when left out.
    #[serde(default)]
    pub listen: Vec<IpAddr>,
    /// Where proofs over TLS are shown while an order needs them: connections for `acme-tls/1` must be passed there.
    #[serde(default)]
    pub tls_alpn_listen: Option<SocketAddr>,
    /// Where the stand-in takes its orders.
    #[serde(default)]
    pub control: Option<SocketAddr>,
}

impl Web {
    /// The group of the server's workers: as set, else Debian's.
    pub fn group_or_usual(&self) -> &str {
        self.group.as_deref().unwrap_or("www-data")
    }
}

/// The DNS server that holds the zones of this harbor.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Dns {
    #[serde(default)]
    pub server: DnsServer,
    /// The zone check of the server, as a command; zone and file are appended as it takes them.
    #[serde(default)]
    pub check: Vec<String>,
    /// The remote control, as a command (`rndc`, `knotc`, `nsd-control`); its order is appended.
    #[serde(default)]
    pub control_command: Vec<String>,
    #[serde(default)]
    pub new_zones: NewZones,
    /// The working directory of the server: relative `$INCLUDE` names in zones count from there.
    #[serde(default)]
    pub directory: Option<PathBuf>,
    /// The key that the server takes updates with, for zones that it holds as dynamic (RFC 2136).
    #[serde(default)]
    pub update_key_file: Option<PathBuf>,
    /// The catalog zone (RFC 9432) that secondaries take the list of zones from; none when left out.
    #[serde(default)]
    pub catalog: Option<Hostname>,
    #[serde(default)]
    pub main_file: Option<PathBuf>,
    /// Where to ask the server whether it has loaded a zone.
    #[serde(default)]
    pub address: Option<SocketAddr>,
    /// Where the stand-in takes its orders.
    #[serde(default)]
    pub control: Option<SocketAddr>,
}

/// The internet that is asked; for closed networks and tests. The real one's values when left out.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Internet {
    #[serde(default)]
    pub root_servers: Vec<ServerAddress>,
    /// Recursive resolvers; those of `/etc/resolv.conf` when left out.
    #[serde(default)]
    pub resolvers: Vec<ServerAddress>,
    #[serde(default)]
    pub dns_port: Option<u16>,
    #[serde(default)]
    pub http_port: Option<u16>,
    #[serde(default)]
    pub https_port: Option<u16>,
    /// PEM files with the roots that served certificates are verified with.
    #[serde(default)]
    pub trust_roots: Vec<PathBuf>,
    /// Files with the keys of the root zone that signatures are verified from.
    #[serde(default)]
    pub trust_anchors: Vec<PathBuf>,
    /// What stands in them; they are read with the settings.
    #[serde(skip)]
    pub anchors: Vec<Ds>,
}

impl Internet {
    pub fn dns_port(&self) -> u16 {
        self.dns_port.unwrap_or(53)
    }

    pub fn http_port(&self) -> u16 {
        self.http_port.unwrap_or(80)
    }

    pub fn https_port(&self) -> u16 {
        self.https_port.unwrap_or(443)
    }

    /// The keys of the root that are trusted. Those that are built in are of the real internet alone.
    pub fn anchors(&self) -> Vec<Ds> {
        match self.root_servers.is_empty() && self.trust_anchors.is_empty() {
            true => crate::delegation::built_in_anchors(),
            false => self.anchors.clone(),
        }
    }

    /// The root servers to start from: those of the settings, else the built-in hints.
    pub fn roots(&self) -> Vec<SocketAddr> {
        if self.root_servers.is_empty() {
            return crate::delegation::ROOT_HINTS
                .iter()
                .map(|text| SocketAddr::new(text.parse().expect("a built-in address"), self.dns_port()))
                .collect();
        }
        self.root_servers.iter().map(|server| server.socket(self.dns_port())).collect()
    }
}

impl Settings {
    /// All CAs of the settings, with the one that needs no name.
    pub fn all_cas(&self) -> impl Iterator<Item = &Ca> {
        self.cas.values().chain([&self.ca])
    }

    /// The commands that are named here, each with its key.
    pub fn commands(&self) -> Vec<(String, &[String])> {
        let mut all: Vec<(String, &[String])> = vec![
            ("[web] test".into(), &self.web.test),
            ("[web] reload".into(), &self.web.reload),
            ("[dns] check".into(), &self.dns.check),
            ("[dns] control-command".into(), &self.dns.control_command),
            ("[notify] command".into(), &self.notify.command),
        ];
        for (version, php) in &self.php {
            all.push((format!("[php.\"{version}\"] test"), &php.test));
            all.push((format!("[php.\"{version}\"] reload"), &php.reload));
        }
        all.extend(
            self.services.iter().map(|(name, service)| (format!("[services.{name}] reload"), &service.reload[..])),
        );
        all.retain(|(_, words)| !words.is_empty());
        all
    }

    /// The files of keys that are named here.
    pub fn key_files(&self) -> Vec<&Path> {
        let external = self.all_cas().filter_map(|ca| ca.external_account.as_ref()).map(|external| &external.key_file);
        let primaries = self.primaries.values().map(|primary| &primary.key_file);
        let secondaries = self.secondaries.iter().map(|secondary| &secondary.key_file);
        let all = external.chain(primaries).chain(secondaries).chain(&self.dns.update_key_file);
        all.map(PathBuf::as_path).collect()
    }

    /// A CA by its name; that of `[ca]` when not named, or named `default`.
    pub fn ca_named(&self, name: Option<&str>) -> Option<&Ca> {
        match name {
            None | Some("default") => Some(&self.ca),
            Some(name) => self.cas.get(name),
        }
    }

    /// The addresses that sites are served at.
    pub fn served_at(&self) -> &[IpAddr] {
        if self.web.listen.is_empty() { &self.host.addresses } else { &self.web.listen }
    }

    /// The nameserver set of that name; that of `[host]` where none is named.
    pub fn nameserver_set(&self, name: Option<&str>) -> Option<NameserverSet> {
        match name {
            Some(name) => self.nameserver_sets.get(name).cloned(),
            None => Some(NameserverSet {
                nameservers: self.host.nameservers.clone(),
                addresses: self.host.nameserver_addresses.clone(),
                ..NameserverSet::default()
            }),
        }
    }

    /// The names of the provider's own nameservers: those of `[host]` and of the sets that are nobody's.
    pub fn provider_nameservers(&self) -> Vec<DnsName> {
        let sets = self.nameserver_sets.values().filter(|set| set.account.is_none());
        let mut names: Vec<DnsName> =
            self.host.nameservers.iter().chain(sets.flat_map(|set| &set.nameservers)).cloned().collect();
        names.sort();
        names.dedup();
        names
    }

    /// The mailbox of zones with this primary nameserver: as set, else `hostmaster` beside it, the custom of RFC 2142
    /// section 7.
    pub fn hostmaster(&self, primary: &DnsName) -> DnsName {
        let beside = || {
            let parent = primary.parent().filter(|parent| !parent.is_root()).unwrap_or_else(|| primary.clone());
            DnsName::parse("hostmaster", &parent).unwrap_or(parent)
        };
        self.host.hostmaster.clone().unwrap_or_else(beside)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_real_internet_is_the_default() {
        let internet = Internet::default();
        assert_eq!(internet.roots().len(), crate::delegation::ROOT_HINTS.len());
        assert!(internet.roots().iter().all(|root| root.port() == 53));
        assert_eq!((internet.http_port(), internet.https_port()), (80, 443));
    }
}
