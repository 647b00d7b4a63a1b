//! Where things lie inside a harbor.

use std::path::{Path, PathBuf};

use sha2::{Digest, Sha256};

use super::{DnsServer, WebServer};
use crate::account::AccountName;
use crate::change::content_hash;
use crate::name::{Host, Hostname};
use crate::zone::TemplateName;

/// Where things lie inside a harbor.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Layout {
    root: PathBuf,
}

impl Layout {
    /// Where a harbor is, unless another folder is named.
    pub const USUAL: &'static str = "/var/lib/brightharbor";
    /// Where the settings of that one are, if this folder is there: packages make it.
    pub const USUAL_SETTINGS: &'static str = "/etc/brightharbor";

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
        self.zones().join(format!("{}.zone", file_name(zone)))
    }

    /// The journal that BIND keeps beside the file of a zone.
    pub fn zone_journal(&self, zone: &Hostname) -> PathBuf {
        self.zone_file(zone).with_extension("zone.jnl")
    }

    /// The file that the DNS server's own main file includes; it includes the parts of the zone list in turn.
    pub fn zone_index(&self, server: DnsServer) -> PathBuf {
        self.zone_lists(server).join("zones.conf")
    }

    fn zone_lists(&self, server: DnsServer) -> PathBuf {
        self.root.join("servers").join(match server {
            DnsServer::Bind => "bind",
            DnsServer::Knot => "knot",
            DnsServer::Nsd => "nsd",
            DnsServer::StandIn | DnsServer::None => "no-dns",
        })
    }

    /// The parts of the zone list, with one stanza a zone. There are 256, so that adding the 100,001st zone rewrites
    /// a few hundred lines and not 100,000.
    pub fn zone_list_parts(&self, server: DnsServer) -> impl Iterator<Item = PathBuf> {
        (0..=255_u8).map(move |number| self.zone_list_part(server, number))
    }

    /// The part of the zone list that a zone stands in, by the hash of its name.
    pub fn zone_list_of(&self, server: DnsServer, zone: &Hostname) -> PathBuf {
        let hash = Sha256::digest(zone.as_str().as_bytes());
        self.zone_list_part(server, hash[0])
    }

    fn zone_list_part(&self, server: DnsServer, number: u8) -> PathBuf {
        self.zone_lists(server).join(format!("parts/{number:02x}.conf"))
    }

    /// The folder with one file a site, included by the web server's own main file.
    pub fn site_files(&self, server: WebServer) -> PathBuf {
        self.root.join("servers").join(match server {
            WebServer::Nginx => "nginx",
            WebServer::Apache => "apache",
            WebServer::StandIn | WebServer::None => "plain",
        })
    }

    /// The file of one site. Servers read them in the order of their names, and a visitor who asks for an address names
    /// nobody in the handshake: then the first counts, so that sites by address come before all others.
    pub fn site_file(&self, server: WebServer, main: &Host) -> PathBuf {
        let ending = if matches!(server, WebServer::Nginx | WebServer::Apache) { "conf" } else { "json" };
        let first = if main.address().is_some() { "+" } else { "" };
        self.site_files(server).join(format!("{first}{main}.{ending}"))
    }

    /// The directives that an administrator has written for a site: read by the web server, in the site's own block.
    pub fn own_directives(&self, server: WebServer, main: &Host) -> Option<PathBuf> {
        Some(self.own_folder(server)?.join(format!("{main}.conf")))
    }

    /// The folder of all of them; only real servers read any.
    pub fn own_folder(&self, server: WebServer) -> Option<PathBuf> {
        let folder = match server {
            WebServer::Nginx => "nginx",
            WebServer::Apache => "apache",
            WebServer::StandIn | WebServer::None => return None,
        };
        Some(self.root.join("own").join(folder))
    }

    /// The file for hosts that nobody has: behind those of addresses, and before those of all names.
    pub fn unknown_hosts(&self, server: WebServer) -> PathBuf {
        self.site_files(server).join("+~unknown-hosts.conf")
    }

    /// The key and the certificate that go with it, in one file.
    pub fn unknown_hosts_pair(&self, server: WebServer) -> PathBuf {
        self.site_files(server).join("+~unknown-hosts.pem")
    }

    /// Where proofs of control for the CA are answered from (RFC 8555 section 8.3); outside every document root.
    pub fn proofs(&self) -> PathBuf {
        self.root.join("proofs")
    }

    /// Where starter files for new document roots may lie: of the account, then of all.
    pub fn starter_files(&self, account: &AccountName) -> Vec<PathBuf> {
        let all = self.root.join("starter");
        vec![all.join("accounts").join(account.as_str()), all.join("everybody")]
    }

    /// The folder of the harbor's own templates of zones.
    pub fn templates(&self) -> PathBuf {
        self.root.join("templates")
    }

    /// A template of new zones by its name. For `default` the built-in one is used where it is missing.
    pub fn zone_template(&self, name: &TemplateName) -> PathBuf {
        self.templates().join(format!("{name}.zone"))
    }

    /// The copy that is kept of a zone's file when the zone is removed: by its content, so that each is kept once.
    pub fn removed_zone(&self, zone: &Hostname, content: &[u8]) -> PathBuf {
        self.root.join("removed").join(format!("{}.{}.zone", file_name(zone), &content_hash(content)[..12]))
    }

    /// The copy that is kept of a site's file which somebody has edited, when it is written anew or goes.
    pub fn removed_site_file(&self, main: &Host, content: &[u8]) -> PathBuf {
        self.root.join("removed").join(format!("{main}.{}.site", &content_hash(content)[..12]))
    }

    pub fn certificates(&self) -> PathBuf {
        self.root.join("certificates")
    }

    /// Keys and requests of certificates that are to be bought.
    pub fn requests(&self) -> PathBuf {
        self.root.join("requests")
    }

    /// Account keys and orders under way.
    pub fn ca(&self) -> PathBuf {
        self.root.join("ca")
    }

    /// The names and hashes of those who may see a path of a site.
    pub fn passwords_of(&self, main: &Host, path: &str) -> PathBuf {
        self.root.join("passwords").join(format!("{main}.{}.users", &content_hash(path.as_bytes())[..8]))
    }

    /// The folders of the accounts for what their PHP puts down.
    pub fn php(&self) -> PathBuf {
        self.root.join("php")
    }

    /// Where the scripts of an account put down sessions, uploads and temporary files: with another system user, elsewhere,
    /// since that one could not enter what was the former one's.
    pub fn php_state(&self, account: &AccountName, user: &str) -> PathBuf {
        self.php().join(format!("{account}.{user}"))
    }

    /// Copies of what the last commands replaced, one folder an entry of the logbook.
    pub fn replaced(&self) -> PathBuf {
        self.root.join("replaced")
    }

    /// What a change replaced, for taking it back while it is under way.
    pub fn kept(&self) -> PathBuf {
        self.root.join("kept")
    }
}

/// A zone's name as the name of a file. In a reverse zone of part of a network the slash (RFC 2317 section 4) becomes
/// an underscore, which no zone name has.
fn file_name(zone: &Hostname) -> String {
    zone.as_str().replace('/', "_")
}
