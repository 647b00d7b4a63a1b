//! Which zones a command for many works on, and what became of each: shared by `realign` and `move`.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::zone::{AlignRefused, Aligned, KeptZone, Zone, ZoneHome};
use brightharbor_core::zone::{Merged, Record, RecordType};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::zones::read_zone;
use clap::Args;
use serde_json::{Value, json};

use super::source::find;
use crate::commands::account;
use crate::error::Error;
use crate::show::human::Page;

#[derive(Debug, Args)]
pub struct Chosen {
    /// The zones.
    zones: Vec<String>,
    /// All zones that can be changed from here.
    #[arg(long, conflicts_with = "zones")]
    all: bool,
    /// All zones of this account.
    #[arg(long, value_name = "ACCOUNT", conflicts_with_all = ["zones", "all"])]
    account: Option<String>,
}

impl Chosen {
    /// Whether some were chosen; otherwise a command only looks.
    pub fn any(&self) -> bool {
        self.all || self.account.is_some() || !self.zones.is_empty()
    }

    /// The zones that are meant; all of them where none was chosen.
    pub fn zones(&self, harbor: &Harbor) -> Result<Vec<Zone>, Error> {
        if !self.zones.is_empty() {
            return self.zones.iter().map(|typed| find(harbor, typed)).collect();
        }
        let mut zones = harbor.store.zones()?;
        zones.retain(|zone| zone.home != ZoneHome::Elsewhere);
        if let Some(typed) = &self.account {
            let account = account::show::find(harbor, typed)?.name;
            zones.retain(|zone| zone.account == account);
        }
        Ok(zones)
    }
}

/// One zone that differs, or that could not be brought in step.
pub struct Outcome {
    pub zone: Hostname,
    pub merged: Merged,
    /// Why it is left as it is.
    pub refused: Option<String>,
}

/// Reads a zone and decides about it; what comes of it goes into the set, and `after` into the inventory.
pub async fn bring(
    harbor: &Harbor,
    zone: &Zone,
    after: Zone,
    set: &mut ChangeSet,
    decide: impl FnOnce(&KeptZone) -> Result<Aligned, AlignRefused>,
) -> Option<Outcome> {
    let left =
        |refused: String| Some(Outcome { zone: zone.name.clone(), merged: Merged::default(), refused: Some(refused) });
    let kept = match read_zone(harbor, zone).await {
        Ok(kept) => kept,
        Err(error) => return left(error.to_string()),
    };
    let Aligned { change, merged } = match decide(&kept) {
        Ok(aligned) => aligned,
        Err(error) => return left(error.to_string()),
    };
    set.changes.extend(change);
    if after != *zone {
        set.inventory(InventoryChange::ReplaceZone { before: zone.clone(), after });
    }
    let worth_telling = !merged.is_in_step() || !merged.kept.is_empty();
    worth_telling.then(|| Outcome { zone: zone.name.clone(), merged, refused: None })
}

/// What changes in each zone, what is kept as made by hand, and what was left.
pub fn show(page: &mut Page, outcomes: &[Outcome]) {
    for outcome in outcomes {
        page.blank();
        let Outcome { zone, merged, refused } = outcome;
        if let Some(reason) = refused {
            page.hanging("", &format!("{zone}: left as it is: {reason}"));
            continue;
        }
        page.heading(zone.as_str());
        merged.removed.iter().for_each(|record| page.line(&format!("-{record}")));
        merged.added.iter().for_each(|record| page.line(&format!("+{record}")));
        if let Some(soa) = &merged.soa {
            let (primary, hostmaster) = (&soa.primary, &soa.hostmaster);
            let times = format!("{} {} {} {}", soa.refresh, soa.retry, soa.expire, soa.negative_ttl);
            page.hanging("  ", &format!("start of authority: {primary} {hostmaster} SERIAL {times}"));
        }
        if !merged.kept.is_empty() {
            page.hanging("  ", &format!("kept as made by hand: {}", kept_words(&merged.kept)));
        }
    }
}

fn kept_words(kept: &[(DnsName, RecordType)]) -> String {
    kept.iter().map(|(owner, kind)| format!("{} {kind}", owner.bare())).collect::<Vec<_>>().join(", ")
}

pub fn document(outcome: &Outcome) -> Value {
    let words = |records: &[Record]| records.iter().map(Record::to_string).collect::<Vec<_>>();
    let kept = outcome.merged.kept.iter();
    json!({
        "zone": outcome.zone,
        "removed": words(&outcome.merged.removed),
        "added": words(&outcome.merged.added),
        "soa_changes": outcome.merged.soa.is_some(),
        "kept_by_hand": kept.map(|(owner, kind)| json!([owner.bare(), kind.to_string()])).collect::<Vec<_>>(),
        "refused": outcome.refused,
    })
}
