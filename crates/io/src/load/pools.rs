//! What a change of sites means for the pools of PHP: which are there, and which other sites want them.

use std::collections::BTreeMap;

use brightharbor_core::account::{Account, AccountName, Limits};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::name::Host;
use brightharbor_core::site::{Content, PoolLoaded, Site, moved_accounts, touched_pools, touched_sites};

use super::LoadError;
use crate::harbor::Harbor;
use crate::install::read_if_there;
use crate::overlay::Overlay;

/// Reads what there is of the pools that a change may have to do with.
pub fn pools(overlay: &Overlay<'_>, set: &ChangeSet) -> Result<Vec<PoolLoaded>, LoadError> {
    let (mut all, touched) = (Vec::new(), touched_sites(set));
    let (mut wanted, moved) = (touched_pools(set), moved_accounts(set));
    for account in &moved {
        for site in overlay.store.sites(Some(&account.name))? {
            wanted.extend(site.rules.content.php_versions().map(|version| (account.name.clone(), version.to_string())));
        }
    }
    for (name, version) in wanted {
        let Some(php) = overlay.settings.php.get(&version) else { continue };
        let moved = moved.iter().find(|account| account.name == name).map(|account| Account::clone(account));
        let Some(account) = moved.map_or_else(|| overlay.account(&name), |moved| Ok(Some(moved)))? else { continue };
        let sites = overlay.store.sites(Some(&name))?;
        let others = sites.into_iter().filter(|site| !touched.contains(&site.main()));
        let others: Vec<Content> = others.map(|site| *site.rules.content).collect();
        let file = overlay.file(&php.pool_file(&name))?;
        let limits = limits_of(overlay, &account)?;
        all.push(PoolLoaded { account, version, limits, file, others });
    }
    Ok(all)
}

/// The pools that the scripts of sites run in, each with the first of those sites.
pub fn pools_of(harbor: &Harbor, sites: &[Site]) -> Result<Vec<(Host, PoolLoaded)>, LoadError> {
    let mut all: BTreeMap<(AccountName, String), (Host, PoolLoaded)> = BTreeMap::new();
    for site in sites {
        for version in site.rules.content.php_versions() {
            let key = (site.account.clone(), version.to_string());
            let Some(php) = harbor.settings.php.get(version).filter(|_| !all.contains_key(&key)) else { continue };
            let Some(account) = harbor.store.account(&site.account)? else { continue };
            let others = harbor.store.sites(Some(&site.account))?.into_iter().map(|site| *site.rules.content).collect();
            let file = read_if_there(&php.pool_file(&site.account))?;
            let (limits, version) = (limits_of(harbor, &account)?, version.to_string());
            all.insert(key, (site.main().clone(), PoolLoaded { account, version, limits, file, others }));
        }
    }
    Ok(all.into_values().collect())
}

fn limits_of(harbor: &Harbor, account: &Account) -> Result<Limits, LoadError> {
    let plan = account.plan.as_ref().map(|plan| harbor.store.plan(plan)).transpose()?.flatten();
    Ok(plan.map(|plan| plan.limits).unwrap_or_default())
}
