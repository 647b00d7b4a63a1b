//! Looks at hostnames: what the harbor knows and what the world shows, put before the core, which judges their links.

use std::net::IpAddr;

use crate::harbor::Harbor;
use crate::store::StoreError;
use crate::survey::{Looking, gather};
use crate::trust::TrustError;
use brightharbor_core::delegation::Cuts;
use brightharbor_core::delegation::rules::{Expected, Load, judge};
use brightharbor_core::finding::Finding;
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::{Hostname, registrable_domain};
use brightharbor_core::render::fingerprint;
use brightharbor_core::site::Site;
use brightharbor_core::survey::{CaWay, Gathered, Harbored, Spread, Survey, leads_here, spread, survey};
use brightharbor_core::zone::ZoneHome;

use jiff::SignedDuration;

/// Why nothing could be looked at.
#[derive(Debug, thiserror::Error)]
pub enum LookError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error(transparent)]
    Trust(#[from] TrustError),
}

/// One look at hostnames of one domain.
pub struct Looked {
    pub surveys: Vec<Survey>,
    /// The names that a CA would be led here by, and the others with the reason.
    pub leading: Vec<Hostname>,
    /// Those that lead here where nobody takes connections for http, with the reason.
    pub without_http: Vec<(Hostname, String)>,
    pub left_out: Vec<(Hostname, String)>,
    /// The zones above the names, with their servers.
    pub zones: Cuts,
    gathered: Gathered,
    findings: Vec<Finding>,
    expected: Expected,
}

impl Looked {
    /// What resolvers have of each. Reads the logbook for what was changed lately, which takes its time.
    pub fn spreads(&self, harbor: &Harbor) -> Result<Vec<Spread>, StoreError> {
        let Self { gathered, findings, expected, .. } = self;
        let since = gathered.now.checked_sub(SignedDuration::from_hours(48)).unwrap_or(gathered.now);
        let changed = harbor.store.zones_changed_since(since)?.get(&gathered.domain).copied();
        let mut spreads = Vec::with_capacity(gathered.hosts.len());
        for host in &gathered.hosts {
            let harbored = harbored(harbor, &host.hostname)?;
            let seen = gathered.seen(host, findings, expected, &harbor.settings.host.addresses, harbored.as_ref());
            spreads.push(spread(&seen, changed));
        }
        Ok(spreads)
    }
}

/// Looks at hostnames of the site.
pub async fn look_at_site(harbor: &Harbor, site: &Site) -> Result<Looked, LookError> {
    look(harbor, site.main(), &site.hostnames, None).await
}

/// The same, as far as a CA looks that is to see proofs: `secure` and `lands` are not judged.
pub async fn look_for_proofs(harbor: &Harbor, site: &Site) -> Result<Looked, LookError> {
    look_so_far(harbor, site.main(), &site.hostnames, None, Looking::AsFarAsProofs).await
}

/// Looks at hostnames of one domain, attached or not.
pub async fn look(
    harbor: &Harbor,
    name: &Hostname,
    hostnames: &[Hostname],
    at: Option<IpAddr>,
) -> Result<Looked, LookError> {
    look_so_far(harbor, name, hostnames, at, Looking::Everywhere).await
}

async fn look_so_far(
    harbor: &Harbor,
    name: &Hostname,
    hostnames: &[Hostname],
    at: Option<IpAddr>,
    looking: Looking,
) -> Result<Looked, LookError> {
    let domain = registrable_domain(name).unwrap_or_else(|| name.clone());
    let gathered = gather(&harbor.settings, &domain, hostnames, at, looking).await?;
    Ok(verdict(harbor, gathered)?)
}

fn verdict(harbor: &Harbor, gathered: Gathered) -> Result<Looked, StoreError> {
    let expected = expected(harbor, &gathered.domain)?;
    let findings = judge(&gathered.picture, &expected);
    let zones = gathered.picture.zones();
    let (mut surveys, mut leading) = (Vec::new(), Vec::new());
    let (mut without_http, mut left_out) = (Vec::new(), Vec::new());
    for host in &gathered.hosts {
        let harbored = harbored(harbor, &host.hostname)?;
        let ours = &harbor.settings.host.addresses;
        let seen = gathered.seen(host, &findings, &expected, ours, harbored.as_ref());
        surveys.push(survey(&seen));
        match leads_here(&seen) {
            Ok(CaWay::Http) => leading.push(host.hostname.clone()),
            Ok(CaWay::NotHttp(reason)) => without_http.push((host.hostname.clone(), reason)),
            Err(reason) => left_out.push((host.hostname.clone(), reason)),
        }
    }
    Ok(Looked { surveys, leading, without_http, left_out, zones, gathered, findings, expected })
}

/// The nameservers that a domain should be delegated to: those of the harbor, if it keeps the zone; and what else the
/// rules may know.
pub fn expected(harbor: &Harbor, domain: &Hostname) -> Result<Expected, StoreError> {
    let Harbor { settings, store, .. } = harbor;
    let zone = store.zone(domain)?;
    let zone_here = Some(zone.as_ref().is_some_and(|zone| zone.home != ZoneHome::Elsewhere));
    // What a primary elsewhere is delegated to is its own affair, unless a set was named.
    let ours = zone.filter(|zone| zone.home == ZoneHome::Here || zone.nameserver_set.is_some());
    let set_name = ours.as_ref().and_then(|zone| zone.nameserver_set.clone());
    let set = match &ours {
        Some(_) => settings.nameserver_set(set_name.as_deref()).unwrap_or_default(),
        None => NameserverSet::default(),
    };
    let provider = settings.provider_nameservers();
    let mut own_nameservers = provider.clone();
    own_nameservers.extend(settings.nameserver_sets.values().flat_map(|set| set.nameservers.clone()));
    let load = match (&set_name, set.capacity) {
        (Some(name), Some(capacity)) => {
            Some(Load { set: name.clone(), domains: store.zones_with_set(Some(name))?, capacity })
        }
        _ => None,
    };
    let addresses = if set.addresses.is_empty() { settings.host.nameserver_addresses.clone() } else { set.addresses };
    let hidden = provider.into_iter().filter(|name| set.account.is_some() && !set.nameservers.contains(name));
    Ok(Expected {
        hidden_names: hidden.collect(),
        nameservers: set.nameservers,
        addresses,
        zone_here,
        own_nameservers,
        load,
        changed_at: None,
    })
}

fn harbored(harbor: &Harbor, hostname: &Hostname) -> Result<Option<Harbored>, StoreError> {
    let Some(site) = harbor.store.site_of(hostname)? else { return Ok(None) };
    let zone = harbor.store.enclosing_zone(hostname)?;
    Ok(Some(Harbored {
        zone_home: zone.map_or(ZoneHome::Elsewhere, |zone| zone.home),
        fingerprint: fingerprint(&site),
        certificate: harbor.store.certificate_of(site.main())?,
        waiting: harbor.store.waiting_of(site.main())?,
        has_ca: harbor.settings.ca_named(site.rules.certificate.ca.as_deref()).is_some_and(|ca| ca.directory.is_some()),
    }))
}
