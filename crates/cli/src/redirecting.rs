//! Adding redirects, from what is known to the decision: used by `redirect add`, and by `load`.

use brightharbor_core::change::Plan;
use brightharbor_core::redirect::{AddRedirects, RedirectRefusal, add_redirects};
use brightharbor_io::load;
use brightharbor_io::overlay::Overlay;
use jiff::Timestamp;

use crate::error::Error;

/// Loads the sites on a visitor's way as the decision asks for them: a way has an end, or is refused as endless.
pub fn decide(overlay: &Overlay<'_>, request: &AddRedirects, now: Timestamp) -> Result<Plan, Error> {
    let mut loaded = load::add_redirects(overlay, request)?;
    loop {
        match add_redirects(request, &loaded, &overlay.settings, &overlay.layout, now) {
            Err(RedirectRefusal::NotLoaded(host)) => {
                let site = overlay.site_of(&host)?;
                loaded.others.insert(host, site);
            }
            other => return Ok(other?),
        }
    }
}
