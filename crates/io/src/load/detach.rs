//! What a decision to detach hostnames, or to remove zones, rests on.

use std::collections::BTreeMap;

use brightharbor_core::certificate::DemandedProof;
use brightharbor_core::harbor::DnsServer;
use brightharbor_core::name::{Host, Hostname, names_of};
use brightharbor_core::site::{DetachLoaded, Site, leaving as names_leaving};
use brightharbor_core::zone::{KeptZone, Zone, ZoneHome, ZoneRemoval, ZoneRemovalFiles};

use super::LoadError;
use crate::overlay::Overlay;

/// The sites that lose names, each with the names that were named.
#[derive(Debug, Clone, Default)]
pub struct Leaving(pub Vec<(Site, Vec<Host>)>);

impl Leaving {
    /// All names that go, twins and all.
    pub fn names(&self) -> Vec<Host> {
        self.0.iter().flat_map(|(site, gone)| names_leaving(gone, site)).collect()
    }
}

/// The sites of hostnames.
pub fn leaving(overlay: &Overlay<'_>, names: &[Host]) -> Result<Leaving, LoadError> {
    let mut of_site: BTreeMap<Host, (Site, Vec<Host>)> = BTreeMap::new();
    for name in names {
        let site = overlay.site_of(name)?.ok_or_else(|| LoadError::NotAttached(name.clone()))?;
        of_site.entry(site.main().clone()).or_insert_with(|| (site, vec![])).1.push(name.clone());
    }
    Ok(Leaving(of_site.into_values().collect()))
}

/// Loads for names of one site. Zones that will be `removed` are not edited before.
pub async fn detach(
    overlay: &Overlay<'_>,
    site: &Site,
    gone: &[Host],
    removed: &dyn Fn(&Zone) -> bool,
) -> Result<DetachLoaded, LoadError> {
    let mut holding: Vec<Zone> = Vec::new();
    for name in names_of(&names_leaving(gone, site)) {
        holding.extend(overlay.enclosing_zone(&name)?);
    }
    let mut demanded_elsewhere = Vec::new();
    let demands = site.rules.demands.iter().filter(|_| gone.contains(site.main()));
    for proof in demands.map(|demand| &demand.proof) {
        let DemandedProof::Record { owner, .. } = proof else { continue };
        match overlay.zone_holding(owner)? {
            Some(zone) if zone.home != ZoneHome::Elsewhere => holding.push(zone),
            _ => demanded_elsewhere.push(proof.clone()),
        }
    }
    let mut zones: Vec<KeptZone> = Vec::new();
    for zone in holding.iter().filter(|zone| !removed(zone)) {
        if !zones.iter().any(|kept| kept.zone.name == zone.name) {
            zones.extend(overlay.kept_zone(zone).await?);
        }
    }
    let mut demanded = Vec::new();
    for (_, _, name) in site.demanded_files() {
        let path = overlay.layout.proofs().join(name);
        demanded.extend(overlay.file(&path)?.map(|content| (path, content)));
    }
    let site_file = overlay.site_file(site)?;
    Ok(DetachLoaded { site: site.clone(), site_file, demanded, demanded_elsewhere, zones })
}

/// A zone that is to go; `None` where somebody else keeps it. `attached` are the names in it that were attached.
pub async fn zone_removal(
    overlay: &Overlay<'_>,
    zone: &Zone,
    attached: Vec<Hostname>,
) -> Result<Option<ZoneRemoval>, LoadError> {
    let Some(kept) = overlay.kept_zone(zone).await? else { return Ok(None) };
    let (layout, dns) = (&overlay.layout, &overlay.settings.dns);
    let catalog = dns.catalog.as_ref().map(|catalog| overlay.file(&layout.zone_file(catalog))).transpose()?;
    let files = ZoneRemovalFiles {
        zone_list: overlay.file(&layout.zone_list_of(dns.server, &zone.name))?,
        catalog: catalog.flatten(),
        journal: match (&zone.signing, dns.server) {
            (Some(_), DnsServer::Bind) => overlay.file(&layout.zone_journal(&zone.name))?,
            _ => None,
        },
    };
    let pattern = zone.pattern.as_deref().map(|key| overlay.store.pattern(key)).transpose()?.flatten();
    Ok(Some(ZoneRemoval { kept, files, pattern, attached }))
}
