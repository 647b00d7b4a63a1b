//! Which zones a command for many works on, and what became of each: shared by `realign` and `move`.

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Record, RecordType, WhyLeft, Zone, ZoneHome, ZoneOutcome};
use brightharbor_io::harbor::Harbor;
use clap::Args;
use serde_json::{Value, json};

use super::source::find;
use crate::commands::find_account;
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

    /// Whether they were named one by one.
    pub fn by_name(&self) -> bool {
        !self.zones.is_empty()
    }

    /// The zones that are meant; all of them where none was chosen.
    pub fn zones(&self, harbor: &Harbor) -> Result<Vec<Zone>, Error> {
        if !self.zones.is_empty() {
            return self.zones.iter().map(|typed| find(harbor, typed)).collect();
        }
        let mut zones = harbor.store.zones()?;
        zones.retain(|zone| zone.home != ZoneHome::Elsewhere);
        if let Some(typed) = &self.account {
            let account = find_account(harbor, typed)?.name;
            zones.retain(|zone| zone.account == account);
        }
        Ok(zones)
    }
}

/// What changes in each zone, what is kept as made by hand, and what was left.
pub fn show(page: &mut Page, outcomes: &[ZoneOutcome]) {
    for outcome in outcomes {
        page.blank();
        let ZoneOutcome { zone, merged, left } = outcome;
        if let Some(why) = left {
            page.hanging("", &format!("{zone}: not changed: {}", why_left(why)));
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
            page.hanging("  ", &format!("kept, added or edited since it was made: {}", kept_words(&merged.kept)));
        }
    }
}

fn kept_words(kept: &[(DnsName, RecordType)]) -> String {
    kept.iter().map(|(owner, kind)| format!("{} {kind}", owner.bare())).collect::<Vec<_>>().join(", ")
}

fn why_left(why: &WhyLeft) -> String {
    match why {
        WhyLeft::Unread(words) => words.clone(),
        WhyLeft::Refused(refused) => refused.to_string(),
    }
}

pub fn document(outcome: &ZoneOutcome) -> Value {
    let words = |records: &[Record]| records.iter().map(Record::to_string).collect::<Vec<_>>();
    let kept = outcome.merged.kept.iter();
    json!({
        "zone": outcome.zone,
        "removed": words(&outcome.merged.removed),
        "added": words(&outcome.merged.added),
        "soa_changes": outcome.merged.soa.is_some(),
        "kept_by_hand": kept.map(|(owner, kind)| json!([owner.bare(), kind.to_string()])).collect::<Vec<_>>(),
        "refused": outcome.left.as_ref().map(why_left),
    })
}
