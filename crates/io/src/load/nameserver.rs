//! What decisions about nameserver sets rest on.

use std::net::SocketAddr;

use brightharbor_core::delegation::Question;
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::nameserver::{ChangeSet, ChangeSetLoaded, KnownSet, MemberZone, MemberZones, ReadySeen, moving};
use brightharbor_core::zone::RecordType;

use super::LoadError;
use crate::dns::ask;
use crate::overlay::Overlay;

/// A set by its name, and whether commands may change it.
pub fn known_set(overlay: &Overlay<'_>, name: &str) -> Result<KnownSet, LoadError> {
    let set = overlay.settings.nameserver_set(Some(name).filter(|name| *name != "host"));
    Ok(match set {
        None => KnownSet::Unknown,
        Some(set) if overlay.store.nameserver_sets()?.contains_key(name) => KnownSet::Own(set),
        Some(_) => KnownSet::OfSettings,
    })
}

/// The zones of the harbor that nameservers' names lie in.
pub async fn member_zones(
    overlay: &Overlay<'_>,
    names: impl Iterator<Item = &DnsName>,
) -> Result<MemberZones, LoadError> {
    let mut zones = MemberZones::default();
    for name in names {
        let Ok(name) = Hostname::parse(&name.bare()) else { continue };
        let Some(zone) = overlay.enclosing_zone(&name)? else { continue };
        if !zones.0.iter().any(|known| known.zone.name == zone.name) {
            let kept = overlay.kept_zone(&zone).await?;
            zones.0.push(MemberZone { zone, kept });
        }
    }
    Ok(zones)
}

/// Asks the nameservers that move whether they serve a zone of the set at their new addresses.
pub async fn change_set(overlay: &Overlay<'_>, request: &ChangeSet) -> Result<ChangeSetLoaded, LoadError> {
    let known = known_set(overlay, &request.name)?;
    let mut zones = MemberZones::default();
    let mut seen = Vec::new();
    if let KnownSet::Own(set) = &known {
        zones = member_zones(overlay, set.nameservers.iter()).await?;
        let of_set = overlay.store.zones()?;
        let delegated = of_set.into_iter().find(|zone| zone.nameserver_set.as_deref() == Some(&request.name));
        for member in moving(set, &request.members) {
            let Some(zone) = &delegated else { break };
            for address in &member.addresses {
                let server = SocketAddr::new(*address, overlay.settings.internet.dns_port());
                let question = Question::authoritative(server, &zone.name.dns_name(), RecordType::SOA);
                let words = format!("does {server} serve {}", zone.name);
                let outcome = overlay.ask(&words, async { ask(&question).await.outcome }).await?;
                let (nameserver, zone) = (member.name.clone(), zone.name.clone());
                seen.push(ReadySeen { nameserver, server, zone, outcome });
            }
        }
    }
    let domains = overlay.store.zones_with_set(Some(&request.name))?;
    Ok(ChangeSetLoaded { known, zones, seen, domains })
}
