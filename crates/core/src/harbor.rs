//! What an administrator has settled (`harbor.toml`) and where things lie inside a harbor.
//!
//! Plain values with serde derives: reading the file is for the command-line crate, using it for all the others.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};

use aws_lc_rs::digest;
use serde::{Deserialize, Serialize};

use crate::name::{DnsName, Hostname};

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
    #[serde(default)]
    pub dns: Dns,
    #[serde(default)]
    pub ca: Ca,
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
}

impl Default for Sites {
    fn default() -> Self {
        Self { document_root: default_document_root(), home: default_home() }
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

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DnsServer {
    Bind,
    /// The loopback DNS host of the demo and the tests.
    StandIn,
    #[default]
    None,
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
    /// The addresses to listen on; all when left out.
    #[serde(default)]
    pub listen: Vec<IpAddr>,
    /// Where the stand-in takes its orders.
    #[serde(default)]
    pub control: Option<SocketAddr>,
}

/// The DNS server that holds the zones of this harbor.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Dns {
    #[serde(default)]
    pub server: DnsServer,
    /// The zone check of the server, as a command; zone and file are appended.
    #[serde(default)]
    pub check: Vec<String>,
    /// The remote control, as a command; `reload ZONE` or `reconfig` is appended.
    #[serde(default)]
    pub control_command: Vec<String>,
    #[serde(default)]
    pub main_file: Option<PathBuf>,
    /// Where to ask the server whether it has loaded a zone.
    #[serde(default)]
    pub address: Option<SocketAddr>,
    /// Where the stand-in takes its orders.
    #[serde(default)]
    pub control: Option<SocketAddr>,
}

/// The certificate authority.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Ca {
    /// The URL of its directory (RFC 8555 section 7.1.1).
    #[serde(default)]
    pub directory: Option<String>,
    /// Where the CA may write to about certificates.
    #[serde(default)]
    pub contact: Option<String>,
    /// Set on purpose by the administrator, after reading the CA's terms.
    #[serde(default)]
    pub terms_accepted: bool,
    /// A PEM file with the root that the CA's own https is verified with; the system's roots when left out.
    #[serde(default)]
    pub trust_root: Option<PathBuf>,
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

/// `ADDRESS` or `ADDRESS:PORT`, an IPv6 address with a port in brackets.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ServerAddress {
    pub address: IpAddr,
    pub port: Option<u16>,
}

impl ServerAddress {
    pub fn socket(&self, default_port: u16) -> SocketAddr {
        SocketAddr::new(self.address, self.port.unwrap_or(default_port))
    }
}

impl std::str::FromStr for ServerAddress {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        if let Ok(address) = text.parse() {
            return Ok(Self { address, port: None });
        }
        text.parse::<SocketAddr>()
            .map(|socket| Self { address: socket.ip(), port: Some(socket.port()) })
            .map_err(|_| format!("`{text}` is not ADDRESS or ADDRESS:PORT (IPv6 as [ADDRESS]:PORT)"))
    }
}

impl TryFrom<String> for ServerAddress {
    type Error = String;
    fn try_from(text: String) -> Result<Self, String> {
        text.parse()
    }
}

impl From<ServerAddress> for String {
    fn from(server: ServerAddress) -> String {
        match server.port {
            Some(port) => SocketAddr::new(server.address, port).to_string(),
            None => server.address.to_string(),
        }
    }
}

/// Where things lie inside a harbor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    root: PathBuf,
}

impl Layout {
    pub fn new(root: impl Into<PathBuf>) -> Self {
        Self { root: root.into() }
    }

    pub fn root(&self) -> &Path {
        &self.root
    }

    pub fn settings(&self) -> PathBuf {
        self.root.join("harbor.toml")
    }

    pub fn inventory(&self) -> PathBuf {
        self.root.join("inventory.sqlite")
    }

    pub fn lock(&self) -> PathBuf {
        self.root.join("lock")
    }

    pub fn zones(&self) -> PathBuf {
        self.root.join("zones")
    }

    pub fn zone_file(&self, zone: &Hostname) -> PathBuf {
        self.zones().join(format!("{zone}.zone"))
    }

    /// The file that the DNS server's own main file includes; it includes the parts of the zone list in turn.
    pub fn zone_index(&self) -> PathBuf {
        self.root.join("servers/bind/zones.conf")
    }

    /// The parts of the zone list, with one stanza a zone. There are 256, so that adding the 100,001st zone rewrites
    /// a few hundred lines and not 100,000.
    pub fn zone_list_parts(&self) -> impl Iterator<Item = PathBuf> {
        (0..=255_u8).map(|number| self.zone_list_part(number))
    }

    /// The part of the zone list that a zone stands in, by the hash of its name.
    pub fn zone_list_of(&self, zone: &Hostname) -> PathBuf {
        let hash = digest::digest(&digest::SHA256, zone.as_str().as_bytes());
        self.zone_list_part(hash.as_ref()[0])
    }

    fn zone_list_part(&self, number: u8) -> PathBuf {
        self.root.join(format!("servers/bind/parts/{number:02x}.conf"))
    }

    /// The folder with one file a site, included by the web server's own main file.
    pub fn site_files(&self, server: WebServer) -> PathBuf {
        self.root.join("servers").join(match server {
            WebServer::Nginx => "nginx",
            WebServer::Apache => "apache",
            WebServer::StandIn | WebServer::None => "plain",
        })
    }

    pub fn site_file(&self, server: WebServer, main: &Hostname) -> PathBuf {
        let ending = if matches!(server, WebServer::Nginx | WebServer::Apache) { "conf" } else { "json" };
        self.site_files(server).join(format!("{main}.{ending}"))
    }

    /// Where proofs of control for the CA are answered from (RFC 8555 section 8.3); outside every document root.
    pub fn proofs(&self) -> PathBuf {
        self.root.join("proofs")
    }

    /// The template of new zones; the built-in one is used where it is missing.
    pub fn zone_template(&self) -> PathBuf {
        self.root.join("templates/default.zone")
    }

    pub fn certificates(&self) -> PathBuf {
        self.root.join("certificates")
    }

    /// Account keys and orders under way.
    pub fn ca(&self) -> PathBuf {
        self.root.join("ca")
    }

    /// What a change replaced, for taking it back.
    pub fn kept(&self) -> PathBuf {
        self.root.join("kept")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn server_addresses_with_and_without_port() {
        let read = |text: &str| text.parse::<ServerAddress>().map(|server| server.socket(53).to_string());
        assert_eq!(read("192.0.2.1").unwrap(), "192.0.2.1:53");
        assert_eq!(read("192.0.2.1:5300").unwrap(), "192.0.2.1:5300");
        assert_eq!(read("2001:db8::1").unwrap(), "[2001:db8::1]:53");
        assert_eq!(read("[2001:db8::1]:5300").unwrap(), "[2001:db8::1]:5300");
        assert!(read("ns1.saltmarsh.example").is_err());
    }

    #[test]
    fn the_real_internet_is_the_default() {
        let internet = Internet::default();
        assert_eq!(internet.roots().len(), crate::delegation::ROOT_HINTS.len());
        assert!(internet.roots().iter().all(|root| root.port() == 53));
        assert_eq!((internet.http_port(), internet.https_port()), (80, 443));
    }
}
