//! A change of a site through the one door: its file is written anew, and one that somebody has edited by hand is shown
//! first.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::render::{is_as_written, site_file};
use brightharbor_core::site::{Site, change_site};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::server::await_fingerprint;
use similar::TextDiff;

use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Changed, Context};

/// Adds to the set what makes the site serve as `after`. A hand-made edit of its file is replaced only with `--yes`.
pub fn site_change(
    harbor: &Harbor,
    before: &Site,
    after: &Site,
    options: &ChangeOptions,
    set: &mut ChangeSet,
) -> Result<(), Error> {
    let file = own_file(harbor, before, options.yes || options.dry_run)?;
    change_site(set, before, after, file, &harbor.settings, &harbor.layout);
    Ok(())
}

/// The web server's file of a site, which must be as it was written unless `anyway`.
pub fn own_file(harbor: &Harbor, site: &Site, anyway: bool) -> Result<Option<Vec<u8>>, Error> {
    let path = harbor.layout.site_file(harbor.settings.web.server, site.main());
    let file = read_if_there(&path)?;
    let Some(content) = file.as_ref().filter(|content| !is_as_written(content) && !anyway) else { return Ok(file) };
    let written = site_file(site, &harbor.settings, &harbor.layout).unwrap_or_default();
    let (found, shown) = (String::from_utf8_lossy(content).into_owned(), path.display().to_string());
    let diff = TextDiff::from_lines(&written, &found);
    let diff = diff.unified_diff().context_radius(1).header("as written", &shown).to_string();
    let advice = format!(
        "keep what you need of it elsewhere, then have the file written again: brightharbor site change {} --yes",
        site.main()
    );
    Err(Error::refused("changed-by-hand", format!("{shown} was changed by hand:\n{diff}")).advice(advice))
}

/// A reload takes its time: asks, for a few seconds at most, until a site of the set is served as it is now. One reload
/// serves all sites, so that one of them is enough.
pub async fn until_served(context: &Context, changed: &Changed) -> Result<(), Error> {
    let after = changed.set.inventory_changes().find_map(|change| match change {
        InventoryChange::ReplaceSite { after, .. } => Some(after),
        _ => None,
    });
    if let (Some(site), Some(_)) = (after, changed.entry) {
        await_fingerprint(&context.open()?.settings, site, changed.took).await;
    }
    Ok(())
}

/// The same, for commands that have nothing else to wait for.
pub fn await_served(context: &Context, changed: &Changed) -> Result<(), Error> {
    context.block_on(until_served(context, changed))?
}
