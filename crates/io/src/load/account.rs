//! What decisions about accounts rest on.

use std::path::{Path, PathBuf};

use brightharbor_core::account::{
    Account, AccountName, AddAccount, AddLoaded, ChangeAccount, ChangeLoaded, HomeSeen, RemoveAccount, RemoveLoaded,
    UserSeen, UserWish, moved, wanted_home,
};
use brightharbor_core::name::Hostname;

use super::LoadError;
use crate::install::is_root;
use crate::overlay::Overlay;
use crate::store::StoreError;

/// No chain of resellers is longer than there are accounts; a broken one must not hold us.
const MOST_RESELLERS: usize = 100;

pub fn add_account(overlay: &Overlay<'_>, request: &AddAccount) -> Result<AddLoaded, LoadError> {
    Ok(AddLoaded {
        is_there: overlay.account(&request.name)?.is_some(),
        user: user_seen(&request.user),
        home: home_seen(overlay, &wanted_home(request, &overlay.settings), None)?,
        plan_is_there: plan_is_there(overlay, request.plan.as_ref())?,
        set_is_there: set_is_there(overlay, request.nameserver_set.as_deref()),
        reseller_is_there: match &request.reseller {
            Some(reseller) => overlay.account(reseller)?.is_some(),
            None => false,
        },
    })
}

pub fn change_account(
    overlay: &Overlay<'_>,
    account: Account,
    request: &ChangeAccount,
) -> Result<ChangeLoaded, LoadError> {
    let mut sites = Vec::new();
    let mut folders = Vec::new();
    if let Some(home) = &request.home {
        let after = Account { home: home.clone(), ..account.clone() };
        for site in overlay.store.sites(Some(&account.name))? {
            let root = moved(&site, &account, &after).unwrap_or_else(|| site.document_root.clone());
            folders.extend(Some(root).filter(|root| is_folder(root)));
            let file = overlay.site_file(&site)?;
            sites.push((site, file));
        }
    }
    let wanted = |wish: &Option<Option<AccountName>>| wish.clone().flatten();
    Ok(ChangeLoaded {
        user: request.user.as_ref().map(user_seen).unwrap_or_default(),
        plan_is_there: plan_is_there(overlay, wanted(&request.plan).as_ref())?,
        set_is_there: set_is_there(overlay, request.nameserver_set.clone().flatten().as_deref()),
        resellers: match wanted(&request.reseller) {
            Some(reseller) => reseller_and_above(overlay, reseller)?,
            None => vec![],
        },
        mail_is_own: match &request.email {
            Some(email) => lies_in_own_zone(overlay, &account, email)?,
            None => false,
        },
        home: match &request.home {
            Some(home) => home_seen(overlay, home, Some(&account.name))?,
            None => HomeSeen::default(),
        },
        sites,
        folders,
        account,
    })
}

/// The account as it is; `None`: there is none.
pub fn find_account(overlay: &Overlay<'_>, name: &AccountName) -> Result<Option<Account>, LoadError> {
    Ok(overlay.account(name)?)
}

pub fn remove_account(
    overlay: &Overlay<'_>,
    account: Account,
    request: &RemoveAccount,
) -> Result<RemoveLoaded, LoadError> {
    let mut zones = overlay.store.zones()?;
    zones.retain(|zone| zone.account == account.name);
    Ok(RemoveLoaded {
        sold: overlay.store.sold_by(&account.name)?,
        sites: overlay.store.sites(Some(&account.name))?.len(),
        zones,
        heir_is_there: match &request.zones_to {
            Some(heir) => overlay.account(heir)?.is_some(),
            None => false,
        },
        account,
    })
}

fn user_seen(wish: &UserWish) -> UserSeen {
    let user = wish.name.as_deref().and_then(uzers::get_user_by_name);
    UserSeen { exists: user.is_some(), has_root_id: user.is_some_and(|user| user.uid() == 0), is_root: is_root() }
}

/// What lies where a home is wanted; `own` is the account that it is for, if there is one already.
fn home_seen(overlay: &Overlay<'_>, home: &Path, own: Option<&AccountName>) -> Result<HomeSeen, LoadError> {
    let real = real_place(home);
    let mut overlaps = None;
    for place in [home, &real] {
        overlaps = overlaps.or(overlay.store.account_around(place, own)?);
    }
    let is_there = std::fs::symlink_metadata(home).is_ok();
    Ok(HomeSeen { is_there, harbor: real_place(overlay.layout.root()), overlaps, real })
}

/// A place behind all links that exist on the way to it.
fn real_place(path: &Path) -> PathBuf {
    path.ancestors()
        .find_map(|above| {
            let real = std::fs::canonicalize(above).ok()?;
            // Joined with nothing, a path would end with a slash.
            Some(
                path.strip_prefix(above)
                    .map_or(real.clone(), |below| real.components().chain(below.components()).collect()),
            )
        })
        .unwrap_or_else(|| path.to_path_buf())
}

fn plan_is_there(overlay: &Overlay<'_>, plan: Option<&AccountName>) -> Result<bool, StoreError> {
    match plan {
        Some(plan) => Ok(overlay.plan(plan)?.is_some()),
        None => Ok(false),
    }
}

fn set_is_there(overlay: &Overlay<'_>, set: Option<&str>) -> bool {
    match set {
        None => false,
        Some("host") => overlay.settings.nameserver_set(None).is_some(),
        Some(name) => overlay.settings.nameserver_set(Some(name)).is_some(),
    }
}

fn reseller_and_above(overlay: &Overlay<'_>, reseller: AccountName) -> Result<Vec<AccountName>, StoreError> {
    let mut chain = Vec::new();
    let mut at = Some(reseller);
    while let Some(name) = at.filter(|_| chain.len() < MOST_RESELLERS) {
        let Some(account) = overlay.account(&name)? else { break };
        chain.push(name);
        at = account.reseller;
    }
    Ok(chain)
}

/// Whether a mailbox lies in a zone of the account itself.
fn lies_in_own_zone(overlay: &Overlay<'_>, account: &Account, email: &str) -> Result<bool, StoreError> {
    let host = email.rsplit_once('@').and_then(|(_, host)| Hostname::parse(host).ok());
    let zone = host.map(|host| overlay.enclosing_zone(&host)).transpose()?.flatten();
    Ok(zone.is_some_and(|zone| zone.account == account.name))
}

/// A folder, and no link to one.
fn is_folder(path: &Path) -> bool {
    std::fs::symlink_metadata(path).is_ok_and(|found| found.is_dir())
}
