//! What decisions about redirects rest on.

use brightharbor_core::change::ExistingFile;
use brightharbor_core::redirect::{AddRedirects, AddRedirectsLoaded, Source, Sources};
use brightharbor_core::site::Site;

use super::LoadError;
use crate::overlay::Overlay;

/// The sites that get redirects. The sites on a visitor's way are added one by one, as the decision asks for them.
pub fn add_redirects(overlay: &Overlay<'_>, request: &AddRedirects) -> Result<AddRedirectsLoaded, LoadError> {
    let sites = match &request.sources {
        Sources::One(source) => site_of_source(overlay, source)?.into_iter().collect(),
        Sources::AllOf(account) => sites_with_files(overlay, overlay.store.sites(Some(account))?)?,
    };
    let limit = match sites.first() {
        Some((site, _)) => overlay.limit(&site.account)?,
        None => None,
    };
    Ok(AddRedirectsLoaded { sites, limit, ..AddRedirectsLoaded::default() })
}

/// The site that a redirect's host belongs to, with its file.
pub fn site_of_source(overlay: &Overlay<'_>, source: &Source) -> Result<Option<(Site, ExistingFile)>, LoadError> {
    let Some(site) = overlay.site_of(&source.host)? else { return Ok(None) };
    let file = overlay.site_file(&site)?;
    Ok(Some((site, file)))
}

/// Sites with their files.
pub fn sites_with_files(overlay: &Overlay<'_>, sites: Vec<Site>) -> Result<Vec<(Site, ExistingFile)>, LoadError> {
    let with_file = |site: Site| {
        let file = overlay.site_file(&site)?;
        Ok((site, file))
    };
    sites.into_iter().map(with_file).collect()
}
