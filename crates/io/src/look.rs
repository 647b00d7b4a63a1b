//! Looks at hostnames: what the harbor knows and what the world shows, put before the core, which judges their links.

use std::collections::HashMap;
use std::net::{IpAddr, TcpStream};
use std::path::PathBuf;
use std::time::Duration;

use crate::dns::Walker;
use crate::harbor::Harbor;
use crate::load::listener_clash;
use crate::probe::RevocationLists;
use crate::store::StoreError;
use crate::survey::{Looking, brief, gather};
use crate::trust::TrustError;
use brightharbor_core::certificate::due::is_awaited;
use brightharbor_core::delegation::rules::{Expected, judge};
use brightharbor_core::delegation::{Cuts, domain_of};
use brightharbor_core::finding::Finding;
use brightharbor_core::name::{Host, Hostname, by_domain, is_registrable};
use brightharbor_core::nameserver::{self, set_to_count};
use brightharbor_core::redirect::{LandingEnd, Shows};
use brightharbor_core::render::{Clash, ClashKind, fingerprint, upstream_of};
use brightharbor_core::site::{Site, Upstream};
use brightharbor_core::survey::{
    CaWay, Gathered, Harbored, HostGathered, HttpOutcome, SilentProgram, Spread, Survey, leads_here, spread, survey,
};
use brightharbor_core::zone::ZoneHome;

use futures_util::{StreamExt, TryStreamExt, stream};
use jiff::SignedDuration;
use url::Url;

/// Why nothing could be looked at.
#[derive(Debug, thiserror::Error)]
pub enum LookError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Trust(#[from] TrustError),
}

/// One look at hosts: each judged by its own domain.
pub struct Looked {
    /// In the order of the hosts.
    pub surveys: Vec<Survey>,
    /// The names that a CA would be led here by, and the others with the reason.
    pub leading: Vec<Host>,
    /// Those that lead here where nobody takes connections for http, with the reason.
    pub without_http: Vec<(Host, String)>,
    pub left_out: Vec<(Host, String)>,
    /// The zones above the names, with their servers.
    pub zones: Cuts,
    domains: Vec<OfDomain>,
}

/// What was seen of the hosts of one domain, or of addresses.
struct OfDomain {
    gathered: Gathered,
    findings: Vec<Finding>,
    expected: Expected,
}

/// Domains that are looked at side by side: a silent server is waited for once.
const DOMAINS_AT_ONCE: usize = 16;
/// A program that takes longer to take a connection is as good as silent.
const CONNECT_PATIENCE: Duration = Duration::from_secs(1);
/// Names whose zones are looked for side by side, and how often one server is asked for them in a second.
const NAMES_AT_ONCE: usize = 64;
const PER_SERVER: u32 = 200;

impl Looked {
    /// What resolvers have of each. Reads the logbook for what was changed lately, which takes its time.
    pub fn spreads(&self, harbor: &Harbor) -> Result<Vec<Spread>, StoreError> {
        let mut spreads = Vec::with_capacity(self.surveys.len());
        for OfDomain { gathered, findings, expected } in &self.domains {
            let since = gathered.now.checked_sub(SignedDuration::from_hours(48)).unwrap_or(gathered.now);
            let changes = harbor.store.zones_changed_since(since)?;
            let changed = gathered.domain.as_ref().and_then(|domain| changes.get(domain)).copied();
            for host in &gathered.hosts {
                let harbored = harbored(harbor, &host.hostname)?;
                let seen = gathered.seen(host, findings, expected, &harbor.settings.host.addresses, harbored.as_ref());
                spreads.push((self.place(&host.hostname), spread(&seen, changed)));
            }
        }
        spreads.sort_by_key(|(place, _)| *place);
        Ok(spreads.into_iter().map(|(_, spread)| spread).collect())
    }

    fn place(&self, host: &Host) -> Option<usize> {
        self.surveys.iter().position(|survey| survey.hostname == *host)
    }
}

/// Looks at all hosts of the site.
pub async fn look_at_site(harbor: &Harbor, site: &Site) -> Result<Looked, LookError> {
    look(harbor, &site.hostnames, None).await
}

/// The same, as far as a CA looks that is to see proofs: `secure` and `lands` are not judged.
pub async fn look_for_proofs(harbor: &Harbor, site: &Site) -> Result<Looked, LookError> {
    look_so_far(harbor, &site.hostnames, None, Looking::AsFarAsProofs).await
}

/// Looks at hosts, attached or not.
pub async fn look(harbor: &Harbor, hosts: &[Host], at: Option<IpAddr>) -> Result<Looked, LookError> {
    look_so_far(harbor, hosts, at, Looking::Everywhere).await
}

/// The same, asking CAs whether what is shown is revoked.
pub async fn look_asking(
    harbor: &Harbor,
    hosts: &[Host],
    at: Option<IpAddr>,
    lists: &RevocationLists,
) -> Result<Looked, LookError> {
    look_so_far(harbor, hosts, at, Looking::AskingCas(lists)).await
}

async fn look_so_far(
    harbor: &Harbor,
    hosts: &[Host],
    at: Option<IpAddr>,
    looking: Looking<'_>,
) -> Result<Looked, LookError> {
    let shown = zones_elsewhere(harbor, hosts).await;
    let kept = |name: &Hostname| harbor.store.enclosing_zone(name).ok().flatten().map(|zone| zone.name);
    let looks = by_domain(hosts, |name| kept(name).or_else(|| shown.get(name).cloned()))
        .into_iter()
        .map(|(domain, hosts)| async move { gather(&harbor.settings, domain.as_ref(), &hosts, at, looking).await });
    let gathered: Vec<Gathered> = stream::iter(looks).buffered(DOMAINS_AT_ONCE).try_collect().await?;
    Ok(verdict(harbor, hosts, gathered)?)
}

/// The zones of names that no zone of the harbor holds, as the DNS shows them: a list of suffixes only guesses.
async fn zones_elsewhere(harbor: &Harbor, hosts: &[Host]) -> HashMap<Hostname, Hostname> {
    let kept = |name: &Hostname| harbor.store.enclosing_zone(name).is_ok_and(|zone| zone.is_some());
    let to_place: Vec<&Hostname> =
        hosts.iter().filter_map(Host::name).filter(|name| !is_registrable(name) && !kept(name)).collect();
    if to_place.is_empty() {
        return HashMap::new();
    }
    let walker = Walker::new(PER_SERVER).await;
    let place = |name: Hostname| {
        let (walker, brief) = (&walker, brief(&harbor.settings, &name, &[]));
        async move { domain_of(&name, &walker.walk(brief).await.picture).map(|zone| (name, zone)) }
    };
    let places = stream::iter(to_place.into_iter().cloned().map(place)).buffer_unordered(NAMES_AT_ONCE);
    places.filter_map(|placed| async { placed }).collect().await
}

fn verdict(harbor: &Harbor, hosts: &[Host], all: Vec<Gathered>) -> Result<Looked, StoreError> {
    let (mut surveys, mut leading) = (Vec::new(), Vec::new());
    let (mut without_http, mut left_out) = (Vec::new(), Vec::new());
    let (mut zones, mut domains, mut clash) = (Cuts::new(), Vec::new(), None);
    let mut tried = HashMap::new();
    for gathered in all {
        let expected = match &gathered.domain {
            Some(domain) => expected(harbor, domain)?,
            None => Expected::default(),
        };
        let findings = judge(&gathered.picture, &expected);
        zones.extend(gathered.picture.zones());
        for host in &gathered.hosts {
            let mut harbored = harbored(harbor, &host.hostname)?;
            if let Some(harbored) = harbored.as_mut().filter(|harbored| answers_otherwise(host, harbored)) {
                harbored.clash = clash.get_or_insert_with(|| listener_clash(harbor).filter(takes_ours)).clone();
            }
            if let Some(known) = harbored.as_mut() {
                known.silent = silent_program(harbor, host, &mut tried)?;
            }
            let ours = &harbor.settings.host.addresses;
            let seen = gathered.seen(host, &findings, &expected, ours, harbored.as_ref());
            surveys.push(survey(&seen));
            match leads_here(&seen) {
                Ok(CaWay::Http) => leading.push(host.hostname.clone()),
                Ok(CaWay::NotHttp(reason)) => without_http.push((host.hostname.clone(), reason)),
                Err(reason) => left_out.push((host.hostname.clone(), reason)),
            }
        }
        domains.push(OfDomain { gathered, findings, expected });
    }
    let place = |host: &Host| hosts.iter().position(|other| other == host);
    surveys.sort_by_key(|survey| place(&survey.hostname));
    leading.sort_by_key(place);
    without_http.sort_by_key(|(host, _)| place(host));
    left_out.sort_by_key(|(host, _)| place(host));
    Ok(Looked { surveys, leading, without_http, left_out, zones, domains })
}

/// Who is wanted where the web server says at the end of the way that a program does not answer, and whether anybody
/// takes connections there.
fn silent_program(
    harbor: &Harbor,
    host: &HostGathered,
    tried: &mut HashMap<Upstream, Option<String>>,
) -> Result<Option<SilentProgram>, StoreError> {
    let Some(landing) = &host.landing else { return Ok(None) };
    let (LandingEnd::Page { url, .. }, Some(Shows::NoProgram | Shows::LateProgram)) = (&landing.end, landing.shows)
    else {
        return Ok(None);
    };
    let Ok(url) = url.parse::<Url>() else { return Ok(None) };
    let Some(Ok(name)) = url.host_str().map(Host::parse) else { return Ok(None) };
    let Some(site) = harbor.store.site_of(&name)? else { return Ok(None) };
    let (_, by) = site.rules.content.part_at(url.path());
    let upstream = upstream_of(by, &site.account, &harbor.settings.php);
    Ok(upstream.map(|upstream| {
        let (what, at) = (by.words(), upstream.to_string());
        // Many sites may have the same program, and one elsewhere is waited for.
        let refused =
            tried.entry(upstream).or_insert_with_key(|at| takes_connections(at).err().map(|error| why_not(&error)));
        SilentProgram { what, at, refused: refused.clone() }
    }))
}

/// On this machine it is refused at once; elsewhere it is waited for a moment.
fn takes_connections(upstream: &Upstream) -> std::io::Result<()> {
    match upstream {
        Upstream::Socket(path) => std::os::unix::net::UnixStream::connect(path).map(|_| ()),
        Upstream::Address(address) => TcpStream::connect_timeout(address, CONNECT_PATIENCE).map(|_| ()),
    }
}

/// In plain words.
fn why_not(error: &std::io::Error) -> String {
    use std::io::ErrorKind;
    match error.kind() {
        ErrorKind::ConnectionRefused => "connection refused".into(),
        ErrorKind::NotFound => "there is no such socket".into(),
        ErrorKind::PermissionDenied => "no permission".into(),
        ErrorKind::TimedOut | ErrorKind::WouldBlock => "no answer".into(),
        _ => error.to_string().split(" (os error").next().unwrap_or_default().to_lowercase(),
    }
}

fn answers_otherwise(host: &HostGathered, harbored: &Harbored) -> bool {
    let is_other = |body: &str| body.trim() != harbored.fingerprint;
    host.http.iter().any(|http| matches!(&http.outcome, HttpOutcome::Answer { body, .. } if is_other(body)))
}

fn takes_ours((_, clash): &(PathBuf, Clash)) -> bool {
    matches!(clash.kind, ClashKind::TakesOurs(_))
}

/// What a domain's delegation should be, and what else the rules may know.
pub fn expected(harbor: &Harbor, domain: &Hostname) -> Result<Expected, StoreError> {
    let Harbor { settings, store, .. } = harbor;
    let zone = store.zone(domain)?;
    let counted = set_to_count(zone.as_ref(), settings).map(|set| store.zones_with_set(Some(set))).transpose()?;
    let expected = nameserver::expected(zone.as_ref(), counted, settings);
    let asked_at = match expected.nameservers.is_empty() {
        true => None,
        false => store.handed_over(domain, &expected.nameservers)?,
    };
    Ok(Expected { asked_at, ..expected })
}

fn harbored(harbor: &Harbor, hostname: &Host) -> Result<Option<Harbored>, StoreError> {
    let Some(site) = harbor.store.site_of(hostname)? else { return Ok(None) };
    let zone = hostname.name().map(|name| harbor.store.enclosing_zone(name)).transpose()?.flatten();
    let certificate = harbor.store.certificate_of(site.main())?;
    let pauses = harbor.store.pauses_of(site.main())?;
    Ok(Some(Harbored {
        zone_home: zone.map_or(ZoneHome::Elsewhere, |zone| zone.home),
        fingerprint: fingerprint(&site),
        awaited: is_awaited(&site, certificate.as_ref(), &harbor.settings),
        certificate,
        waiting: harbor.store.waiting_of(site.main())?,
        clash: None,
        silent: None,
        is_guarded: site.rules.content.guard_at("/").is_some(),
        pause: pauses.into_iter().find(|pause| pause.name == hostname.clone().into()),
        has_ca: harbor.settings.ca_named(site.rules.certificate.ca.as_deref()).is_some_and(|ca| ca.directory.is_some()),
    }))
}
