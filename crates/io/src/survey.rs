//! Gathers what the six links are judged by: one walk for the domain, then every hostname as a visitor meets it.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use brightharbor_core::certificate::AliasWay;
use brightharbor_core::delegation::{Brief, Picture};
use brightharbor_core::harbor::Settings;
use brightharbor_core::name::{DnsName, Host, Hostname, names_of};
use brightharbor_core::survey::{Gathered, HostGathered, Resolved, authoritative_addresses};
use futures_util::future::{join_all, join3};
use futures_util::{StreamExt, stream};
use rustls::{ClientConfig, RootCertStore};
use url::Url;

use crate::clock;
use crate::dns::{resolve_all, system_resolvers, walk};
use crate::probe::{RevocationLists, fetch_fingerprint, fetch_text, land, shake_hands_asking};
use crate::trust::{self, TrustError};

/// Questions for one domain with a few hostnames; a flood of nameservers ends here.
const MOST_QUESTIONS: usize = 400;
/// Hostnames of one domain that are looked at side by side.
const HOSTS_AT_ONCE: usize = 16;
/// Addresses of one hostname that are looked at.
const MOST_ADDRESSES: usize = 8;

/// The brief of a walk with these settings.
pub fn brief(settings: &Settings, domain: &Hostname, hostnames: &[Hostname]) -> Brief {
    Brief {
        domain: domain.dns_name(),
        roots: settings.internet.roots(),
        dns_port: settings.internet.dns_port(),
        hostnames: hostnames.iter().map(Hostname::dns_name).collect(),
        most_questions: MOST_QUESTIONS,
        thorough: false,
        validates: false,
        anchors: settings.internet.anchors(),
        cuts: Arc::default(),
    }
}

/// The recursive resolvers to ask with these settings.
pub fn resolvers(settings: &Settings) -> Vec<SocketAddr> {
    let port = settings.internet.dns_port();
    if settings.internet.resolvers.is_empty() {
        return system_resolvers(port);
    }
    settings.internet.resolvers.iter().map(|server| server.socket(port)).collect()
}

/// Whether a visitor who asks for a path of a hostname over http gets this very text, at every address that it leads to.
pub async fn sees_file(settings: &Settings, hostname: &Host, path: &str, text: &str) -> Result<(), String> {
    let addresses: Vec<IpAddr> = match hostname {
        Host::Address(_) => hostname.address().into_iter().collect(),
        Host::Name(name) => {
            let resolved = resolve_all(&resolvers(settings), &name.dns_name()).await;
            let first = resolved.iter().find(|resolved| !resolved.addresses.is_empty());
            first.map(|resolved| resolved.addresses.iter().map(|one| one.address).collect()).unwrap_or_default()
        }
    };
    if addresses.is_empty() {
        return Err("the name does not lead anywhere yet".into());
    }
    for address in addresses.into_iter().take(MOST_ADDRESSES) {
        fetch_text(SocketAddr::new(address, settings.internet.http_port()), hostname, path, text).await?;
    }
    Ok(())
}

/// The name that records of a name stand at: itself, or where its aliases lead. The authoritative servers are asked, so
/// that no cache learns of a name that is about to be made.
pub async fn follow_alias(settings: &Settings, name: &DnsName) -> DnsName {
    let mut way = AliasWay::new(name.clone());
    while let Some((at, domain)) = way.next() {
        let picture = walk(&Brief { hostnames: vec![at.clone()], ..brief(settings, &domain, &[]) }).await;
        let answers = picture.servers().flat_map(|(_, server)| &server.hosts);
        let aliases = answers.map(|answer| answer.aliases.clone()).find(|aliases| !aliases.is_empty());
        way.answered(&aliases.unwrap_or_default());
    }
    way.end()
}

/// How much is looked at.
#[derive(Clone, Copy)]
pub enum Looking<'a> {
    /// What all six links are judged by.
    Everywhere,
    /// The same, and what CAs say of the certificates that are shown.
    AskingCas(&'a RevocationLists),
    /// What tells whether a CA would be led here: neither TLS nor the way from page to page.
    AsFarAsProofs,
}

/// Looks at hostnames of one domain, or at addresses.
///
/// With `at`, web servers are looked for at that address alone, wherever the names lead.
pub async fn gather(
    settings: &Settings,
    domain: Option<&Hostname>,
    hostnames: &[Host],
    at: Option<IpAddr>,
    looking: Looking<'_>,
) -> Result<Gathered, TrustError> {
    let roots = trust::roots(&settings.internet.trust_roots)?;
    let picture = match domain {
        None => Picture::unasked(DnsName::root()),
        Some(domain) => walk(&Brief { validates: true, ..brief(settings, domain, &names_of(hostnames)) }).await,
    };
    let looks = hostnames.iter().map(|hostname| gather_host(settings, hostname, &picture, &roots, at, looking));
    let hosts: Vec<HostGathered> = stream::iter(looks).buffered(HOSTS_AT_ONCE).collect().await;
    Ok(Gathered { domain: domain.cloned(), now: clock::now(), picture, hosts })
}

async fn gather_host(
    settings: &Settings,
    hostname: &Host,
    picture: &Picture,
    roots: &Arc<RootCertStore>,
    at: Option<IpAddr>,
    looking: Looking<'_>,
) -> HostGathered {
    let resolved = match hostname.dns_name() {
        None => vec![],
        Some(name) => resolve_all(&resolvers(settings), &name).await,
    };
    let addresses = match at.or(hostname.address()) {
        Some(address) => vec![address],
        None => addresses_to_look_at(picture, hostname, &resolved),
    };
    let (http_port, https_port) = (settings.internet.http_port(), settings.internet.https_port());
    // Side by side: who drips or is silent at one address is waited for once.
    let (everywhere, lists) = match looking {
        Looking::AsFarAsProofs => (false, None),
        Looking::Everywhere => (true, None),
        Looking::AskingCas(lists) => (true, Some(lists)),
    };
    let http = addresses.iter().map(|address| fetch_fingerprint(SocketAddr::new(*address, http_port), hostname));
    let shaken = addresses.iter().filter(|_| everywhere);
    let tls = shaken
        .map(|address| shake_hands_asking(SocketAddr::new(*address, https_port), hostname, Arc::clone(roots), lists));
    let landing = async {
        match addresses.is_empty() || !everywhere {
            true => None,
            false => way(settings, hostname, addresses.clone(), trust::client(Arc::clone(roots))).await,
        }
    };
    let (http, tls, landing) = join3(join_all(http), join_all(tls), landing).await;
    HostGathered { hostname: hostname.clone(), resolved, http, tls, landing }
}

/// The authoritative addresses; for a name that no nameserver could be asked about, what resolvers say.
fn addresses_to_look_at(picture: &Picture, hostname: &Host, resolved: &[Resolved]) -> Vec<IpAddr> {
    let mut addresses = authoritative_addresses(picture, hostname);
    if addresses.is_empty() {
        addresses = resolved.iter().flat_map(|r| r.addresses.iter().map(|address| address.address)).collect();
        addresses.sort();
        addresses.dedup();
    }
    addresses.truncate(MOST_ADDRESSES);
    addresses
}

async fn way(
    settings: &Settings,
    hostname: &Host,
    addresses: Vec<IpAddr>,
    client: Arc<ClientConfig>,
) -> Option<brightharbor_core::redirect::Landing> {
    let ports = (settings.internet.http_port(), settings.internet.https_port());
    let port = if ports.0 == 80 { String::new() } else { format!(":{}", ports.0) };
    let start: Url = format!("http://{hostname}{port}/").parse().ok()?;
    let known = HashMap::from([(hostname.as_str().to_string(), addresses)]);
    Some(land(&start, known, &resolvers(settings), ports, &client).await)
}
