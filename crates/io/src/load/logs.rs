//! What a change of sites means for their logs: whose folder is not there yet.

use std::collections::BTreeSet;
use std::path::Path;

use brightharbor_core::account::{Account, AccountName};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::site::{logging_accounts, written_sites};

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
