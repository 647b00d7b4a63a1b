//! The decision to write site files again that are missing, were edited by hand, or are not what the settings give by now:
//! after a change of listen addresses, of the server, or of the place of the harbor.

use std::path::PathBuf;

use jiff::Timestamp;
use sha2::{Digest, Sha256};

use super::{PoolLoaded, Site, ask_for_hand_edit, pool_out_of_step, with_pools};
use crate::change::{ExistingFile, FileWrite, InventoryChange, Plan, Purpose};
use crate::harbor::{Layout, Settings};
use crate::name::Host;
use crate::render;

/// What is wrong with the file of a site.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SiteFileState {
    Missing,
    /// Somebody has edited it by hand.
    Edited,
    /// It is as it was written, but not as it would be written now.
    Outdated,
    /// What an administrator has written beside has changed since it was taken in.
    OwnChanged,
}

/// A site whose file is not as it would be written now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SiteOutOfStep {
    pub site: Host,
    pub path: PathBuf,
    pub state: SiteFileState,
}

/// Whether the file of a site is as it would be written now; `None`: it is, or there is no web server to write for.
pub fn out_of_step(
    site: &Site,
    own: Option<&String>,
    file: Option<&[u8]>,
    settings: &Settings,
    layout: &Layout,
) -> Option<(SiteOutOfStep, String)> {
    let (before, site) = (site, &with_own(site, own));
    let written = render::site_file(site, settings, layout)?;
    let state = match file {
        Some(file) if file == written.as_bytes() => return None,
        Some(file) if render::is_as_written(file) && own != before.rules.content.own.as_ref() => {
            SiteFileState::OwnChanged
        }
        Some(file) if render::is_as_written(file) => SiteFileState::Outdated,
        Some(_) => SiteFileState::Edited,
        None => SiteFileState::Missing,
    };
    let path = layout.site_file(settings.web.server, site.main());
    Some((SiteOutOfStep { site: site.main().clone(), path, state }, written))
}

/// The site with its own directives as they are now.
fn with_own(site: &Site, own: Option<&String>) -> Site {
    let mut after = site.clone();
    after.rules.content.own = own.cloned();
    after
}

/// Decides that the files which are not in step are written again, and the pools of PHP that the sites want. What somebody has edited needs a consent.
pub fn realign_sites(
    sites: &[(Site, Option<String>, ExistingFile)],
    pools: &[(Host, PoolLoaded)],
    settings: &Settings,
    layout: &Layout,
) -> (Plan, Vec<SiteOutOfStep>) {
    let (mut plan, mut all) = (Plan::new("site realign"), Vec::new());
    for (site, own, file) in sites {
        let found = out_of_step(site, own.as_ref(), file.as_deref(), settings, layout);
        let Some((found, written)) = found else { continue };
        ask_for_hand_edit(&mut plan, site, file.as_deref(), settings, layout);
        plan.set.file(FileWrite::new(found.path.clone(), file.clone(), written, 0o644, Purpose::SiteFile));
        if *own != site.rules.content.own {
            let after = with_own(site, own.as_ref());
            plan.set.inventory(InventoryChange::ReplaceSite { before: site.clone(), after });
        }
        all.push(found);
    }
    for (site, pool) in pools {
        let (Some(state), Some(php)) = (pool_out_of_step(pool, settings, layout), settings.php.get(&pool.version))
        else {
            continue;
        };
        all.push(SiteOutOfStep { site: site.clone(), path: php.pool_file(&pool.account.name), state });
        with_pools(&mut plan, std::slice::from_ref(pool), settings, layout);
    }
    (plan, all)
}

/// Site files that one run of `tend` reads; of more, each run has its part.
pub const FILES_AT_ONCE: usize = 5_000;

/// The place of the first of `sites` that a run at `now` reads. Parts come in no order: a timer that runs every ten minutes
/// would come upon the same few of them again and again.
pub fn first_of_part(sites: usize, now: Timestamp) -> usize {
    let parts = sites.div_ceil(FILES_AT_ONCE).max(1);
    let digest = Sha256::digest(now.as_second().to_be_bytes());
    let drawn = u64::from_be_bytes(digest[..8].try_into().unwrap_or_default());
    (drawn % parts as u64) as usize * FILES_AT_ONCE
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;
    use jiff::SignedDuration;

    use crate::account::AccountName;
    use crate::harbor::WebServer;
    use crate::site::{HttpsStates, SiteKind, SiteRules};

    fn site(domain: &str) -> Site {
        Site {
            account: AccountName::parse("boatyard").unwrap(),
            hostnames: vec![Host::parse(domain).unwrap()],
            document_root: "/home/boatyard/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    #[test]
    fn a_timer_comes_to_every_part_however_often_it_runs() {
        let start: Timestamp = "2026-11-27T12:00:00Z".parse().unwrap();
        for minutes in [1, 5, 10, 60] {
            let runs = (0..200).map(|run| start + SignedDuration::from_mins(run * minutes));
            let seen: BTreeSet<usize> = runs.map(|now| first_of_part(100_000, now)).collect();
            assert_eq!(seen, (0..20).map(|part| part * FILES_AT_ONCE).collect(), "every {minutes} minutes");
        }
        assert_eq!([0, 1, FILES_AT_ONCE].map(|sites| first_of_part(sites, start)), [0, 0, 0]);
    }

    #[test]
    fn what_is_missing_edited_or_outdated_is_written_and_what_is_right_is_left_alone() {
        let layout = Layout::new("/harbor");
        let mut settings = Settings::default();
        settings.web.server = WebServer::Nginx;
        let before = |domain: &str| render::site_file(&site(domain), &settings, &layout).unwrap().into_bytes();
        let (old, edited) = (before("old.example"), [&before("edited.example")[..], b"# a word\n"].concat());
        let mut now = settings.clone();
        now.web.listen = vec!["192.0.2.10".parse().unwrap()];
        let right = render::site_file(&site("right.example"), &now, &layout).unwrap().into_bytes();
        let sites = [
            (site("old.example"), None, Some(old)),
            (site("edited.example"), None, Some(edited)),
            (site("missing.example"), None, None),
            (site("right.example"), None, Some(right.clone())),
            (site("right.example"), Some("0123456789abcdef".into()), Some(right)),
        ];
        let (plan, found) = realign_sites(&sites, &[], &now, &layout);
        let states: Vec<(&str, SiteFileState)> = found.iter().map(|one| (one.site.as_str(), one.state)).collect();
        let expected = [
            ("old.example", SiteFileState::Outdated),
            ("edited.example", SiteFileState::Edited),
            ("missing.example", SiteFileState::Missing),
            ("right.example", SiteFileState::OwnChanged),
        ];
        assert_eq!(states, expected);
        assert_eq!((plan.set.changes.len(), plan.consents.len()), (6, 1));
        assert!(plan.set.needs().web_reload);
        settings.web.server = WebServer::None;
        assert!(realign_sites(&sites, &[], &settings, &layout).0.is_empty());
    }
}
