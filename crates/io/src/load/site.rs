//! What a change of a site rests on.

use brightharbor_core::site::{ChangeSite, ChangeSiteLoaded, Site, document_root};

use super::LoadError;
use crate::overlay::Overlay;

pub fn change_site(overlay: &Overlay<'_>, site: Site, request: &ChangeSite) -> Result<ChangeSiteLoaded, LoadError> {
    let account = overlay.account(&site.account)?;
    let root = match (&request.document_root, &account) {
        (Some(given), Some(account)) => document_root(Some(given), "", account, site.main()).ok(),
        _ => None,
    };
    Ok(ChangeSiteLoaded {
        site_file: overlay.site_file(&site)?,
        certificate: overlay.store.certificate_of(site.main())?,
        root_is_there: root.is_some_and(|root| std::fs::symlink_metadata(root).is_ok()),
        account,
        site,
    })
}
