//! Looks at what a seller of certificates demands as the seller does: at the authoritative servers, and at the web servers
//! that the names lead to.

use std::time::Duration;

use brightharbor_core::certificate::{Demand, DemandedProof};
use brightharbor_core::delegation::domain_of;
use brightharbor_core::harbor::Settings;
use brightharbor_core::name::Hostname;
use brightharbor_core::render::site_file;
use brightharbor_core::site::Site;
use brightharbor_core::zone::{Record, ZoneHome};

use super::{WorkDoor, WorkError};
use crate::carry_out::Event;
use crate::dns::walk;
use crate::harbor::Harbor;
use crate::survey::{brief, sees_file};
use crate::watch::watch;

/// Our own servers, the secondaries among them, have a record within that time.
const PATIENCE: Duration = Duration::from_secs(20);
/// A new record where an administrator elsewhere is to enter it.
const TTL: u32 = 3600;

/// One thing that the seller looks at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Demanded {
    pub demand: Demand,
    /// A URL, or a record.
    pub subject: String,
    /// Why the seller would not see it, in words.
    pub problem: Option<String>,
}

/// Whether it is a record of a zone that this harbor cannot change.
pub fn record_is_elsewhere(harbor: &Harbor, proof: &DemandedProof) -> Result<bool, WorkError> {
    let DemandedProof::Record { owner, .. } = proof else { return Ok(false) };
    Ok(harbor.store.zone_holding(owner)?.is_none_or(|zone| zone.home == ZoneHome::Elsewhere))
}

/// The lines that somebody else has to enter where the zone is kept.
pub fn handed_over(harbor: &Harbor, site: &Site) -> Result<Vec<String>, WorkError> {
    let mut lines = Vec::new();
    for demand in &site.rules.demands {
        match &demand.proof {
            DemandedProof::Record { owner, data } => {
                if record_is_elsewhere(harbor, &demand.proof)? {
                    lines.push(Record { owner: owner.clone(), ttl: TTL, data: data.clone() }.to_string());
                }
            }
            DemandedProof::File { path, .. } => {
                if site_file(site, &harbor.settings, &harbor.layout).is_none() {
                    lines.push(format!("the file, on the web server: {path}"));
                }
            }
        }
    }
    Ok(lines)
}

/// Looks as the seller does. Without a patience, records of our own zones are waited for as long as they usually take.
pub async fn look_at_demands(
    door: &WorkDoor<'_>,
    harbor: &Harbor,
    site: &Site,
    patience: Option<Duration>,
) -> Result<Vec<Demanded>, WorkError> {
    let mut seen = Vec::new();
    for demand in &site.rules.demands {
        let mut one = |subject: String, problem: Option<String>| {
            seen.push(Demanded { demand: demand.clone(), subject, problem });
        };
        match &demand.proof {
            DemandedProof::File { path, content } => {
                for name in &site.hostnames {
                    let url = format!("http://{name}{path}");
                    (door.tell)(Event::LookingAt(url.clone()));
                    one(url, sees_file(&harbor.settings, name, path, content).await.err());
                }
            }
            DemandedProof::Record { owner, data } => {
                let Some(request) = demand.proof.request(true) else { continue };
                let known = harbor.store.zone_holding(owner)?;
                let ours = known.as_ref().is_some_and(|zone| zone.home != ZoneHome::Elsewhere);
                let zone = match (known, site.main().name()) {
                    (Some(zone), _) => zone.name,
                    (None, Some(main)) => zone_of(&harbor.settings, main).await,
                    (None, None) => continue,
                };
                let patience = patience.unwrap_or(if ours { PATIENCE } else { Duration::ZERO });
                let watched = watch(&harbor.settings, &zone, &request, patience, door.tell).await;
                one(format!("{} {} {data}", owner.bare(), data.record_type()), watched.problem());
            }
        }
    }
    Ok(seen)
}

/// The zone that a name lies in, as the DNS shows it.
async fn zone_of(settings: &Settings, name: &Hostname) -> Hostname {
    let picture = walk(&brief(settings, name, &[])).await;
    domain_of(name, &picture).unwrap_or_else(|| name.clone())
}
