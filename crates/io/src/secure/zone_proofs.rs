//! Proofs by DNS (RFC 8555 section 8.4): TXT records in the zones that this harbor can change, in place while an order
//! needs them. Where `_acme-challenge` is an alias, the record goes to where the alias leads.

use std::time::Duration;

use brightharbor_core::acme::{Identifier, Proof};
use brightharbor_core::certificate::{CertificateRefusal, proof_name, with_proofs, without_proofs};
use brightharbor_core::change::Plan;
use brightharbor_core::name::DnsName;
use brightharbor_core::site::Site;
use brightharbor_core::zone::{AlterRequest, Alteration, RecordData, RecordType, Zone, ZoneHome, serial_date};

use super::{GoOn, WorkDoor, WorkError};
use crate::acme::ProofRecords;
use crate::carry_out::Event;
use crate::door::change;
use crate::harbor::Harbor;
use crate::load::LoadError;
use crate::survey::follow_alias;
use crate::watch::watch;

/// Secondaries fetch a zone within seconds of being told; one that takes longer is not seen by the CA either.
const PATIENCE: Duration = Duration::from_secs(90);

/// The zones of a site's names.
pub(super) struct ZoneProofs<'a> {
    pub door: &'a WorkDoor<'a>,
    pub harbor: &'a Harbor,
    pub site: &'a Site,
    pub lock: &'a tokio::sync::Mutex<()>,
}

/// One record, and the zone that it belongs into.
struct Placing {
    zone: Zone,
    owner: DnsName,
    content: String,
    identifier: Identifier,
}

impl ProofRecords for ZoneProofs<'_> {
    async fn place(&self, proofs: &[Proof]) -> Result<(), Vec<(Identifier, String)>> {
        let mut failed = Vec::new();
        let mut placings = Vec::new();
        for proof in proofs {
            match self.placing(proof).await {
                Ok(placing) => placings.push(placing),
                Err(reason) => failed.push((proof.identifier.clone(), reason)),
            }
        }
        if !failed.is_empty() {
            return Err(failed);
        }
        let all = |error: WorkError| {
            let reason = format!("its challenge record could not be written into the zone: {}", in_words(&error));
            placings.iter().map(|placing| (placing.identifier.clone(), reason.clone())).collect::<Vec<_>>()
        };
        let title = format!("place the proofs for {}", self.site.main());
        self.alter(&title, &placings, true).await.map_err(all)?;
        for placing in &placings {
            let request = AlterRequest {
                owner: placing.owner.clone(),
                record_type: RecordType::TXT,
                alteration: Alteration::Add {
                    ttl: None,
                    data: vec![RecordData::Txt([placing.content.clone().into_bytes()].into())],
                },
            };
            let zone = &placing.zone.name;
            let watched = watch(&self.harbor.settings, zone, &request, PATIENCE, self.door.tell).await;
            if let Some(problem) = watched.problem() {
                let reason = format!("its challenge record is not seen everywhere: {problem}");
                failed.push((placing.identifier.clone(), reason));
            }
        }
        if failed.is_empty() { Ok(()) } else { Err(failed) }
    }

    async fn remove(&self, proofs: &[Proof]) {
        let mut placings = Vec::new();
        for proof in proofs {
            placings.extend(self.placing(proof).await.ok());
        }
        let title = format!("take out the proofs for {}", self.site.main());
        if let Err(error) = self.alter(&title, &placings, false).await {
            (self.door.tell)(Event::ProofsStay { site: self.site.main().clone(), reason: in_words(&error) });
        }
    }

    fn tell(&self, what: &'static str) {
        (self.door.tell)(Event::Ordering { site: self.site.main().clone(), what });
    }

    fn other_hosts(&self, hosts: Vec<String>) {
        (self.door.tell)(Event::CaAtOtherHosts(hosts));
    }
}

impl ZoneProofs<'_> {
    async fn placing(&self, proof: &Proof) -> Result<Placing, String> {
        let name = proof_name(&proof.identifier.name).map_err(|error| error.to_string())?;
        let owner = follow_alias(&self.harbor.settings, &name).await;
        let (content, identifier) = (proof.content.clone(), proof.identifier.clone());
        let elsewhere = |whose: &str| {
            format!(
                "its challenge record belongs into {whose}, which this harbor cannot change: keep there the alias {} \
                 CNAME to a name in a zone of this harbor",
                name.bare()
            )
        };
        match self.harbor.store.zone_holding(&owner).map_err(|error| error.to_string())? {
            Some(zone) if zone.home == ZoneHome::Elsewhere => Err(elsewhere(&format!("the zone {}", zone.name))),
            Some(zone) => Ok(Placing { zone, owner, content, identifier }),
            None => Err(elsewhere("a zone elsewhere")),
        }
    }

    /// Adds the records to their zones, or takes them out, by one change.
    async fn alter(&self, title: &str, placings: &[Placing], add: bool) -> Result<(), WorkError> {
        let _turn = self.lock.lock().await;
        let mut zones: Vec<&Zone> = placings.iter().map(|placing| &placing.zone).collect();
        zones.sort_by(|a, b| a.name.cmp(&b.name));
        zones.dedup();
        change(self.door, title, &GoOn, async |overlay, now| {
            let mut plan = Plan::new(title);
            for zone in &zones {
                let Some(kept) = overlay.kept_zone(zone).await.map_err(LoadError::from)? else { continue };
                let of_zone = placings.iter().filter(|placing| placing.zone == **zone);
                let proofs: Vec<(DnsName, String)> =
                    of_zone.map(|placing| (placing.owner.clone(), placing.content.clone())).collect();
                let decide = if add { with_proofs } else { without_proofs };
                let altered = decide(&kept, &proofs, serial_date(now))
                    .map_err(|error| CertificateRefusal::ProofInZone { zone: zone.name.clone(), error })?;
                plan.set.extend(altered);
            }
            Ok((plan, ()))
        })
        .await?;
        Ok(())
    }
}

fn in_words(error: &WorkError) -> String {
    match error {
        WorkError::Refusal(refusal) => match &**refusal {
            CertificateRefusal::ProofInZone { zone, error } => format!("the zone {zone} cannot take it: {error}"),
            _ => "it was refused".into(),
        },
        other => other.to_string(),
    }
}
