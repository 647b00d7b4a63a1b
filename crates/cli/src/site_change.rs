//! A change of a site through the one door: its file is written anew, and one that somebody has edited by hand is shown
//! first.

use brightharbor_core::change::ChangeSet;
use brightharbor_core::render::is_as_written;
use brightharbor_core::site::{Site, change_site};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use similar::TextDiff;

use crate::error::Error;
use crate::options::ChangeOptions;

/// Adds to the set what makes the site serve as `after`. A hand-made edit of its file is replaced only with `--yes`.
pub fn site_change(
    harbor: &Harbor,
    before: &Site,
    after: &Site,
    options: &ChangeOptions,
    set: &mut ChangeSet,
) -> Result<(), Error> {
    let path = harbor.layout.site_file(harbor.settings.web.server, before.main());
    let file = read_if_there(&path)?;
    if let Some(content) = file.as_ref().filter(|content| !is_as_written(content) && !options.yes && !options.dry_run) {
        let written = brightharbor_core::render::site_file(before, &harbor.settings, &harbor.layout);
        let (old, new) = (written.unwrap_or_default(), String::from_utf8_lossy(content).into_owned());
        let shown = path.display().to_string();
        let diff =
            TextDiff::from_lines(&old, &new).unified_diff().context_radius(1).header("as written", &shown).to_string();
        let message = format!("{shown} was changed by hand:\n{diff}");
        return Err(Error::refused("changed-by-hand", message).advice(
            "give the command again with --yes to replace the file; keep what you need of it elsewhere first",
        ));
    }
    change_site(set, before, after, file, &harbor.settings, &harbor.layout);
    Ok(())
}
