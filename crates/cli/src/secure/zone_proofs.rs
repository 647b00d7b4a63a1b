//! Proofs by DNS (RFC 8555 section 8.4): TXT records in the zones that this harbor can change, in place while an order
//! needs them. Where `_acme-challenge` is an alias, the record goes to where the alias leads.

use std::time::Duration;

use brightharbor_core::acme::{Identifier, Proof};
use brightharbor_core::certificate::{proof_name, with_proofs, without_proofs};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::name::DnsName;
use brightharbor_core::site::Site;
use brightharbor_core::zone::{AlterRequest, Alteration, RecordData, RecordType, serial_date};
use brightharbor_core::zone::{Zone, ZoneHome};
use brightharbor_io::acme::ProofRecords;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::survey::follow_alias;

use super::GO_ON;
use crate::commands::record::watch::watch;
use crate::error::Error;
use crate::pending;
use crate::run::{Context, Decision, change};

/// Secondaries fetch a zone within seconds of being told; one that takes longer is not seen by the CA either.
const PATIENCE: Duration = Duration::from_secs(90);

/// The zones of a site's names.
pub(super) struct ZoneProofs<'a> {
    pub context: &'a Context,
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
        let all = |error: Error| {
            let reason = format!("its proof could not be written into the zone: {}", error.message);
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
                    data: vec![RecordData::Txt(vec![placing.content.clone().into_bytes()])],
                },
            };
            let watched = watch(self.context, self.harbor, &placing.zone, &request, PATIENCE).await;
            if let Some(problem) = watched.problem() {
                failed.push((placing.identifier.clone(), format!("its proof is not seen everywhere: {problem}")));
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
            let note = format!("note: the proofs for {} are still in the zone: {}", self.site.main(), error.message);
            self.context.progress.note(&note);
        }
    }

    fn tell(&self, what: &'static str) {
        self.context.progress.doing(&format!("certificate of {}: {what}", self.site.main()));
    }
}

impl ZoneProofs<'_> {
    async fn placing(&self, proof: &Proof) -> Result<Placing, String> {
        let name = proof_name(&proof.identifier.name).map_err(|error| error.to_string())?;
        let owner = follow_alias(&self.harbor.settings, &name).await;
        let (content, identifier) = (proof.content.clone(), proof.identifier.clone());
        let elsewhere = |whose: &str| {
            format!(
                "its proof by DNS has to stand in {whose}, which this harbor cannot change: keep there the alias {} \
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
    async fn alter(&self, title: &str, placings: &[Placing], add: bool) -> Result<(), Error> {
        let _turn = self.lock.lock().await;
        change(self.context, title, &GO_ON, async |harbor, now| {
            let today = serial_date(now);
            let mut set = ChangeSet::new(title);
            let mut zones: Vec<&Zone> = placings.iter().map(|placing| &placing.zone).collect();
            zones.sort_by(|a, b| a.name.cmp(&b.name));
            zones.dedup();
            for zone in zones {
                let Some(kept) = pending::zone(harbor, zone, &set).await? else { continue };
                let of_zone = placings.iter().filter(|placing| placing.zone == *zone);
                let proofs: Vec<(DnsName, String)> =
                    of_zone.map(|placing| (placing.owner.clone(), placing.content.clone())).collect();
                let altered =
                    if add { with_proofs(&kept, &proofs, today) } else { without_proofs(&kept, &proofs, today) };
                let altered = altered.map_err(|error| {
                    Error::refused("zone-refuses", format!("the zone {} cannot take it: {error}", zone.name))
                })?;
                set.extend(altered.into_iter().collect());
            }
            Ok(Decision { set, said: vec![] })
        })
        .await?;
        Ok(())
    }
}
