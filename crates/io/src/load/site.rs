//! What a change of a site rests on.

use brightharbor_core::name::Host;
use brightharbor_core::site::{
    ChangeSite, ChangeSiteLoaded, Site, TwinLoaded, ZoneLoaded, document_root, missing_twin,
};

use super::LoadError;
use super::attach::by_hand;
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
        root_is_there: root.is_some_and(|root| std::fs::symlink_metadata(root).is_ok()),
        account,
        site,
    })
}

async fn load_twin(overlay: &Overlay<'_>, host: Host) -> Result<TwinLoaded, LoadError> {
    let zone = match host.name().map(|name| overlay.enclosing_zone(name)).transpose()?.flatten() {
        None => None,
        Some(zone) => Some(match overlay.kept_zone(&zone).await? {
            Some(kept) => ZoneLoaded::Kept(Box::new(kept)),
            None => ZoneLoaded::Elsewhere(zone),
        }),
    };
    let by_hand = by_hand(overlay, std::slice::from_ref(&host));
    Ok(TwinLoaded { taken: overlay.site_of(&host)?, by_hand, zone, host })
}
