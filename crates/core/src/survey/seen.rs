//! What was seen of a hostname, gathered by `brightharbor-io` for the judges.

use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use jiff::Timestamp;

use crate::certificate::{Certificate, NamePause, RevocationStatus, Waiting};
use crate::delegation::rules::Expected;
use crate::delegation::{Address, HostAnswer, Picture};
use crate::finding::Finding;
use crate::name::{Host, Hostname};
use crate::redirect::Landing;
use crate::render::Clash;
use crate::zone::ZoneHome;

/// Everything that was gathered about hostnames of one domain, in one look.
#[derive(Debug, Clone)]
pub struct Gathered {
    /// The domain that was walked to; none for addresses.
    pub domain: Option<Hostname>,
    pub now: Timestamp,
    pub picture: Picture,
    pub hosts: Vec<HostGathered>,
}

/// What was gathered about one hostname.
#[derive(Debug, Clone)]
pub struct HostGathered {
    pub hostname: Host,
    pub resolved: Vec<Resolved>,
    pub http: Vec<HttpSeen>,
    pub tls: Vec<TlsSeen>,
    pub landing: Option<Landing>,
}

/// Everything the judges read about one hostname.
pub struct Seen<'a> {
    pub hostname: &'a Host,
    pub now: Timestamp,
    pub picture: &'a Picture,
    pub findings: &'a [Finding],
    pub expected: &'a Expected,
    /// The addresses that sites of this harbor are served at; empty without a harbor.
    pub our_addresses: &'a [IpAddr],
    /// What the harbor knows of the hostname; `None` for a name that is not attached here.
    pub harbored: Option<&'a Harbored>,
    pub resolved: &'a [Resolved],
    pub http: &'a [HttpSeen],
    pub tls: &'a [TlsSeen],
    pub landing: Option<&'a Landing>,
}

/// The harbor's own knowledge of a hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Harbored {
    pub zone_home: ZoneHome,
    pub fingerprint: String,
    /// That of its site, whether it covers the name or not.
    pub certificate: Option<Certificate>,
    /// Why its site has to wait.
    pub waiting: Option<Waiting>,
    /// Why this one name has to wait.
    pub pause: Option<NamePause>,
    pub has_ca: bool,
    /// Whether `tend` gets one for the name.
    pub awaited: bool,
    /// Whether the site asks for a password, or lets only some networks in.
    pub is_guarded: bool,
    /// The program that the last page of the way is of, where that page says that it does not answer.
    pub silent: Option<SilentProgram>,
    /// A block of the web server's own configuration, and its file, that takes the visitors of sites here. Looked for where
    /// another site answers.
    pub clash: Option<(PathBuf, Clash)>,
}

/// A program that does not answer, as it was tried from here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SilentProgram {
    /// In words: PHP 8.2, the program at 127.0.0.1:3000.
    pub what: String,
    pub at: String,
    /// Why nobody can be reached there; `None`: somebody takes connections.
    pub refused: Option<String>,
}

impl Harbored {
    /// The certificate of the site, if it is one for this name.
    pub fn covering(&self, host: &Host) -> Option<&Certificate> {
        self.certificate.as_ref().filter(|certificate| certificate.covers(host))
    }
}

/// The answer of one recursive resolver.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resolved {
    pub resolver: SocketAddr,
    pub addresses: Vec<Address>,
    pub no_such_name: bool,
    /// How long a "no such name" or "no such data" may still be cached, in seconds.
    pub negative_ttl: Option<u32>,
    /// Why there is no answer.
    pub failed: Option<String>,
    /// Whether there is one as soon as it is asked not to validate: then signatures are why.
    pub answers_unchecked: bool,
}

/// What one address answered to a plain http request for the fingerprint.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HttpSeen {
    pub address: SocketAddr,
    pub outcome: HttpOutcome,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HttpOutcome {
    Answer {
        status: u16,
        body: String,
    },
    /// Nobody takes connections there.
    Closed(String),
    Failed(String),
    /// This host has no address of that family.
    NoRoute,
}

/// What one address showed in a TLS handshake for the hostname.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TlsSeen {
    pub address: SocketAddr,
    pub outcome: TlsOutcome,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TlsOutcome {
    Shown {
        protocol: String,
        /// The verdict against the trusted roots, for this hostname and time.
        verified: Result<(), String>,
        names: Vec<String>,
        not_before: Timestamp,
        not_after: Timestamp,
        /// Certificates that were sent.
        sent: usize,
        /// What its CA says of the first of them.
        revocation: RevocationStatus,
    },
    Failed(String),
    NoRoute,
}

impl Gathered {
    /// The part about one hostname, ready for the judges.
    pub fn seen<'a>(
        &'a self,
        host: &'a HostGathered,
        findings: &'a [Finding],
        expected: &'a Expected,
        our_addresses: &'a [IpAddr],
        harbored: Option<&'a Harbored>,
    ) -> Seen<'a> {
        Seen {
            hostname: &host.hostname,
            now: self.now,
            picture: &self.picture,
            findings,
            expected,
            our_addresses,
            harbored,
            resolved: &host.resolved,
            http: &host.http,
            tls: &host.tls,
            landing: host.landing.as_ref(),
        }
    }
}

impl Seen<'_> {
    /// The addresses that the authoritative servers give, and the first server's own words about the name.
    pub(super) fn authoritative(&self) -> (Vec<Address>, Option<&HostAnswer>) {
        let name = self.hostname.dns_name();
        let answers: Vec<&HostAnswer> = self
            .picture
            .authoritative_servers()
            .flat_map(|(_, server)| &server.hosts)
            .filter(|answer| Some(&answer.hostname) == name.as_ref())
            .collect();
        let mut addresses: Vec<Address> = answers.iter().flat_map(|answer| answer.addresses.clone()).collect();
        addresses.sort();
        addresses.dedup_by_key(|address| address.address);
        (addresses, answers.first().copied())
    }

    pub(super) fn is_ours(&self, address: &IpAddr) -> bool {
        self.our_addresses.contains(address)
    }

    pub(super) fn zone_is_here(&self) -> bool {
        self.harbored.is_some_and(|harbored| harbored.zone_home != ZoneHome::Elsewhere)
    }
}

/// The addresses that the authoritative servers give for a hostname: where to look at the web server.
pub fn authoritative_addresses(picture: &Picture, hostname: &Host) -> Vec<IpAddr> {
    let name = hostname.dns_name();
    let mut addresses: Vec<IpAddr> = picture
        .authoritative_servers()
        .flat_map(|(_, server)| &server.hosts)
        .filter(|answer| Some(&answer.hostname) == name.as_ref())
        .flat_map(|answer| answer.addresses.iter().map(|address| address.address))
        .collect();
    addresses.sort();
    addresses.dedup();
    addresses
}
