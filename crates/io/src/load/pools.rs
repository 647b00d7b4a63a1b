//! What a change of sites means for the pools of PHP: which are there, and which other sites want them; and for the folders
//! of logs.

use std::collections::BTreeSet;
use std::path::Path;

use brightharbor_core::account::{Account, AccountName};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::site::{
    Content, PoolLoaded, logging_accounts, moved_accounts, touched_pools, touched_sites, written_sites,
};

use super::LoadError;
use crate::overlay::Overlay;

/// The accounts that a change writes sites of, and that have no folder for logs yet.
pub fn without_log_folder(overlay: &Overlay<'_>, folder: &Path, set: &ChangeSet) -> Result<Vec<Account>, LoadError> {
    let mut names: BTreeSet<AccountName> = logging_accounts(set).into_iter().cloned().collect();
    // A file that is written anew, with nothing else about its site.
    for site in written_sites(set) {
        names.extend(overlay.site_of(&site)?.map(|site| site.account));
    }
    let names = names.into_iter().filter(|name| !folder.join(name.as_str()).is_dir());
    let accounts = names.map(|name| overlay.account(&name)).collect::<Result<Vec<_>, _>>()?;
    Ok(accounts.into_iter().flatten().collect())
}

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
        all.push(PoolLoaded { account, version, file, others });
    }
    Ok(all)
}
