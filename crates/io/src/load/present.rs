//! What a harbor has, for a listing: all accounts, plans and sites, and the records of zones that are kept here.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use brightharbor_core::account::AccountName;
use brightharbor_core::listing::{ListedRecord, Present};
use brightharbor_core::name::{DnsName, Host, Hostname};
use brightharbor_core::site::Site;
use brightharbor_core::zone::{Record, RecordType, ZoneHome};

use super::LoadError;
use crate::overlay::Overlay;

/// All of it, or what a listing has to do with.
pub fn present(overlay: &Overlay<'_>, names: Option<&BTreeSet<Host>>) -> Result<Present, LoadError> {
    let sites = match names {
        None => overlay.store.sites(None)?,
        Some(names) => {
            let mut by_main: BTreeMap<Host, Site> = BTreeMap::new();
            for name in names {
                by_main.extend(overlay.site_of(name)?.map(|site| (site.main().clone(), site)));
            }
            by_main.into_values().collect()
        }
    };
    Ok(Present {
        plans: overlay.store.plans()?.into_iter().map(|plan| (plan.name, plan.limits)).collect(),
        sets: overlay
            .store
            .nameserver_sets()?
            .into_iter()
            .filter_map(|(name, set)| Some((AccountName::parse(&name).ok()?, set)))
            .collect(),
        accounts: overlay.store.accounts()?.into_iter().map(|account| (account.name.clone(), account)).collect(),
        sites,
    })
}

/// The records of zones in this harbor that neither make a zone what it is, nor lead attached names here.
pub async fn listed_records(overlay: &Overlay<'_>) -> Result<Vec<ListedRecord>, LoadError> {
    let attached: HashSet<DnsName> = overlay.store.hostnames()?.iter().filter_map(|host| host.dns_name()).collect();
    let here = &overlay.settings.host.addresses;
    let mut all = Vec::new();
    for zone in overlay.store.zones()?.into_iter().filter(|zone| zone.home == ZoneHome::Here) {
        let Some(kept) = overlay.kept_zone(&zone).await? else { continue };
        let apex = zone.name.dns_name();
        let is_listed = |record: &&Record| {
            let is_own = attached.contains(&record.owner)
                && record.data.address().is_some_and(|address| here.contains(&address));
            let kind = record.data.record_type();
            !(is_own || kind == RecordType::SOA || kind == RecordType::NS && record.owner == apex)
        };
        all.extend(kept.document.records().filter(is_listed).map(|record| listed(&zone.name, record)));
    }
    Ok(all)
}

fn listed(zone: &Hostname, record: &Record) -> ListedRecord {
    ListedRecord {
        zone: zone.clone(),
        owner: record.owner.to_string(),
        record_type: record.data.record_type().to_string(),
        data: record.data.to_string(),
        ttl: Some(record.ttl),
    }
}
