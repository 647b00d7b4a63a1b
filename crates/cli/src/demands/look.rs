//! Looks at what a seller demands as the seller does, and says what others have to enter.

use std::time::Duration;

use brightharbor_core::certificate::{Demand, DemandedProof};
use brightharbor_core::name::registrable_domain;
use brightharbor_core::render::site_file;
use brightharbor_core::site::Site;
use brightharbor_core::zone::Record;
use brightharbor_core::zone::{Zone, ZoneHome};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::survey::sees_file;
use jiff::Timestamp;
use serde::Serialize;

use super::is_elsewhere;
use crate::commands::record::watch::watch;
use crate::error::Error;
use crate::run::Context;

/// Our own servers, the secondaries among them, have a record within that time.
const PATIENCE: Duration = Duration::from_secs(20);
/// A new record where an administrator elsewhere is to enter it.
const TTL: u32 = 3600;

/// One thing that the seller looks at.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Seen {
    kind: &'static str,
    /// A URL, or a record.
    pub subject: String,
    pub until: Timestamp,
    pub seen: bool,
    problem: Option<String>,
}

impl Seen {
    pub fn of(demand: &Demand, subject: String, problem: Option<String>) -> Self {
        let kind = match demand.proof {
            DemandedProof::File { .. } => "file",
            DemandedProof::Record { .. } => "record",
        };
        Self { kind, subject, until: demand.until, seen: problem.is_none(), problem }
    }

    pub fn problem(&self) -> Option<&str> {
        self.problem.as_deref()
    }

    pub fn words(&self) -> String {
        format!("{}: {}", self.subject, self.problem.as_deref().unwrap_or("seen"))
    }
}

/// The lines that somebody else has to enter where the zone is kept.
pub fn handed_over(harbor: &Harbor, site: &Site) -> Result<Vec<String>, Error> {
    let mut lines = Vec::new();
    for demand in &site.rules.demands {
        match &demand.proof {
            DemandedProof::Record { owner, data } => {
                if is_elsewhere(harbor, &demand.proof)? {
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

/// Looks as the seller does: at the authoritative servers, and at the web servers that the names lead to.
pub async fn look(
    context: &Context,
    harbor: &Harbor,
    site: &Site,
    patience: Option<Duration>,
) -> Result<Vec<Seen>, Error> {
    let mut seen = Vec::new();
    for demand in &site.rules.demands {
        let mut one = |subject: String, problem: Option<String>| seen.push(Seen::of(demand, subject, problem));
        match &demand.proof {
            DemandedProof::File { path, content } => {
                for name in &site.hostnames {
                    context.progress.doing(&format!("looking at http://{name}{path}"));
                    let problem = sees_file(&harbor.settings, name, path, content).await.err();
                    one(format!("http://{name}{path}"), problem);
                }
            }
            DemandedProof::Record { owner, data } => {
                let Some(request) = demand.proof.request(true) else { continue };
                let here = harbor.store.zone_holding(owner)?;
                let ours = here.as_ref().is_some_and(|zone| zone.home != ZoneHome::Elsewhere);
                let zone = here.unwrap_or_else(|| {
                    let domain = registrable_domain(site.main()).unwrap_or_else(|| site.main().clone());
                    Zone::new(domain, site.account.clone(), ZoneHome::Elsewhere)
                });
                let patience = patience.unwrap_or(if ours { PATIENCE } else { Duration::ZERO });
                let watched = watch(context, harbor, &zone, &request, patience).await;
                one(format!("{} {} {data}", owner.bare(), data.record_type()), watched.problem());
            }
        }
    }
    Ok(seen)
}
