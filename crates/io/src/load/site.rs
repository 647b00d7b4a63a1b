//! What a change of a site rests on.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use brightharbor_core::account::AccountName;
use brightharbor_core::name::{Host, names_of};
use brightharbor_core::site::{
    ChangeSite, ChangeSiteLoaded, HandOverLoaded, Site, TwinLoaded, ZoneLoaded, document_root, missing_twin,
};

use super::LoadError;
use super::answered::answered;
use super::attach::by_hand;
use super::own_directives;
use crate::overlay::Overlay;

pub async fn change_site(
    overlay: &Overlay<'_>,
    site: Site,
    request: &ChangeSite,
) -> Result<ChangeSiteLoaded, LoadError> {
    let account = overlay.account(&site.account)?;
    let root = match (&request.document_root, &account) {
        (Some(given), Some(account)) => document_root(Some(given), "", account, site.main()).ok(),
        _ => None,
    };
    let twin = match missing_twin(request, &site) {
        Some(host) => Some(load_twin(overlay, host).await?),
        None => None,
    };
    Ok(ChangeSiteLoaded {
        twin,
        site_file: overlay.site_file(&site)?,
        certificate: overlay.store.certificate_of(site.main())?,
        own: own_directives(&overlay.settings, &overlay.layout, site.main())?,
        root_is_open: is_open(root.as_deref().unwrap_or(&site.document_root)),
        root_is_there: root.is_some_and(|root| std::fs::symlink_metadata(root).is_ok()),
        account,
        site,
    })
}

/// Whether every user of this machine can read a folder.
pub(super) fn is_open(folder: &Path) -> bool {
    std::fs::metadata(folder).is_ok_and(|found| found.permissions().mode() & 0o005 != 0)
}

async fn load_twin(overlay: &Overlay<'_>, host: Host) -> Result<TwinLoaded, LoadError> {
    let zone = match host.name().map(|name| overlay.enclosing_zone(name)).transpose()?.flatten() {
        None => None,
        Some(zone) => Some(match overlay.kept_zone(&zone).await? {
            Some(kept) => ZoneLoaded::Kept(Box::new(kept)),
            None => ZoneLoaded::Elsewhere(zone),
        }),
    };
    let by_hand = by_hand(overlay, std::slice::from_ref(&host)).await?;
    let taken = overlay.site_of(&host)?;
    let answered = match taken.is_none() && by_hand.is_none() {
        true => answered(overlay, std::slice::from_ref(&host)).await?,
        false => None,
    };
    Ok(TwinLoaded { taken, by_hand, answered, zone, host })
}

/// The site, what lies below its names, and its zones, for another account.
pub fn hand_over(overlay: &Overlay<'_>, site: Site, to: &AccountName) -> Result<HandOverLoaded, LoadError> {
    let (mut mains, mut foreign) = (vec![site.main().clone()], Vec::new());
    let mut zones = Vec::new();
    for name in names_of(&site.hostnames) {
        zones.extend(overlay.zone(&name)?.filter(|zone| zone.account == site.account));
        for below in overlay.store.hostnames_within(&name)? {
            let Some(other) = overlay.site_of(&below.clone().into())? else { continue };
            if other.account != site.account {
                foreign.push(below.into());
            } else if !mains.contains(other.main()) {
                mains.push(other.main().clone());
            }
        }
    }
    foreign.sort();
    foreign.dedup();
    let mut sites = Vec::with_capacity(mains.len());
    for main in mains {
        let Some(one) = overlay.site_of(&main)? else { continue };
        let file = overlay.site_file(&one)?;
        sites.push((one, file));
    }
    let (account, limit) = (overlay.account(to)?, overlay.limit(to)?);
    Ok(HandOverLoaded { to: to.clone(), account, limit, sites, zones, foreign })
}
