//! The decision what goes along with a change of sites for PHP: a pool for each account and version that a site of it wants,
//! made with the first one, gone with the last.
//!
//! Pure, like every decision; `render::pool_file` writes the file.

use std::collections::BTreeSet;
use std::path::Path;

use super::{Content, Site, SiteFileState, SiteRemark};
use crate::account::{Account, AccountName, Limits};
use crate::change::{
    Change, ChangeSet, ExistingFile, FileRemoval, FileWrite, FolderMake, InventoryChange, Plan, Purpose,
};
use crate::harbor::{Layout, Settings};
use crate::render::{Pool, is_pool_as_written, pool_file};

/// What is there of one pool.
#[derive(Debug, Clone)]
pub struct PoolLoaded {
    pub account: Account,
    pub version: String,
    /// What the account's plan allows.
    pub limits: Limits,
    pub file: ExistingFile,
    /// The contents of the account's sites that the change does not touch.
    pub others: Vec<Content>,
}

/// The pools that a change may have to do with.
pub fn touched_pools(set: &ChangeSet) -> BTreeSet<(AccountName, String)> {
    let sites = set.inventory_changes().flat_map(|change| match change {
        InventoryChange::AddSite(site) | InventoryChange::RemoveSite(site) => vec![site],
        InventoryChange::ReplaceSite { before, after } => vec![before, after],
        _ => vec![],
    });
    let versions = |site: &Site| -> Vec<(AccountName, String)> {
        site.rules.content.php_versions().map(|version| (site.account.clone(), version.to_string())).collect()
    };
    sites.flat_map(versions).collect()
}

/// Accounts whose scripts run as somebody else, or elsewhere, from this change on.
pub fn moved_accounts(set: &ChangeSet) -> Vec<&Account> {
    let moved = set.inventory_changes().filter_map(|change| match change {
        InventoryChange::ReplaceAccount { before, after } => {
            (before.system_user != after.system_user || before.home != after.home).then_some(after)
        }
        _ => None,
    });
    moved.collect()
}

/// The sites of an account as the change leaves them, as far as it touches them.
fn coming<'a>(set: &'a ChangeSet, account: &'a AccountName) -> impl Iterator<Item = &'a Content> {
    // A change of several steps for one site: the last one counts.
    let mut last: Vec<&Site> = Vec::new();
    for change in set.inventory_changes() {
        let (gone, site) = match change {
            InventoryChange::AddSite(site) | InventoryChange::ReplaceSite { after: site, .. } => {
                (site.main(), Some(site))
            }
            InventoryChange::RemoveSite(site) => (site.main(), None),
            _ => continue,
        };
        last.retain(|known| known.main() != gone);
        last.extend(site);
    }
    last.into_iter().filter(move |site| site.account == *account).map(|site| &*site.rules.content)
}

/// Adds to a change of sites what it means for the pools of PHP. What somebody has edited in one stays.
pub fn with_pools(plan: &mut Plan, loaded: &[PoolLoaded], settings: &Settings, layout: &Layout) {
    for PoolLoaded { account, version, limits, file, others } in loaded {
        let (Some(php), Some(user)) = (settings.php.get(version), &account.system_user) else { continue };
        let path = php.pool_file(&account.name);
        let contents: Vec<Content> = coming(&plan.set, &account.name).chain(others).cloned().collect();
        let using: Vec<&Content> =
            contents.iter().filter(|content| content.php_versions().any(|one| one == version)).collect();
        let purpose = || Purpose::PhpPool { version: version.clone(), account: account.name.clone() };
        if file.as_deref().is_some_and(|file| !is_pool_as_written(file)) {
            plan.remark(SiteRemark::PoolEdited { account: account.name.clone(), path });
            continue;
        }
        if using.is_empty() {
            if let Some(before) = file {
                plan.change(Change::RemoveFile(FileRemoval::new(path, before.clone(), 0o644, purpose())));
                let (account, version) = (account.name.clone(), version.clone());
                plan.remark(SiteRemark::PoolGone { account, version });
            }
            continue;
        }
        let Some(text) = wanted_pool(account, version, *limits, &using, settings, layout) else { continue };
        if file.as_deref() == Some(text.as_bytes()) {
            continue;
        }
        let state = layout.php_state(&account.name, user);
        let former = file.as_deref().map(String::from_utf8_lossy).unwrap_or_default();
        if !former.contains(&format!("\"{}/sessions\"", state.display())) {
            for below in ["sessions", "temporary"] {
                plan.change(state_folder(&state, below, user));
            }
        }
        if file.is_none() {
            let (account, version) = (account.name.clone(), version.clone());
            plan.remark(SiteRemark::PoolMade { account, version, user: user.clone() });
        }
        plan.set.file(FileWrite::new(path, file.clone(), text, 0o644, purpose()));
    }
}

/// What the file of a pool is to hold; `None` where the settings have no such version, or nobody could run it.
fn wanted_pool(
    account: &Account,
    version: &str,
    limits: Limits,
    contents: &[&Content],
    settings: &Settings,
    layout: &Layout,
) -> Option<String> {
    let (php, user) = (settings.php.get(version)?, account.system_user.as_deref()?);
    let (state, web_group) = (layout.php_state(&account.name, user), settings.web.group_or_usual());
    Some(pool_file(&Pool { version, php, account, limits, user, web_group, state: &state, contents }))
}

/// Whether the file of a pool that sites want is as it would be written now; `others` are all of those sites.
pub fn pool_out_of_step(loaded: &PoolLoaded, settings: &Settings, layout: &Layout) -> Option<SiteFileState> {
    let PoolLoaded { account, version, limits, file, others } = loaded;
    let using: Vec<&Content> =
        others.iter().filter(|content| content.php_versions().any(|one| one == version)).collect();
    let written = wanted_pool(account, version, *limits, &using, settings, layout)?;
    match file {
        Some(file) if file == written.as_bytes() => None,
        Some(file) if is_pool_as_written(file) => Some(SiteFileState::Outdated),
        Some(_) => Some(SiteFileState::Edited),
        None => Some(SiteFileState::Missing),
    }
}

fn state_folder(state: &Path, below: &str, user: &str) -> Change {
    Change::MakeFolder(FolderMake {
        home: state.to_path_buf(),
        below: below.into(),
        system_user: Some(user.to_string()),
        mode: 0o700,
        group: None,
        early: false,
        starter_page: None,
        starter_files: vec![],
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::Host;
    use crate::site::{HttpsStates, Part, SiteKind, SiteRules, parse_part};

    fn site(domain: &str, typed: &str) -> Site {
        let (path, by) = parse_part(typed).unwrap();
        let content = Content { parts: vec![Part { path, by: by.unwrap() }], ..Content::default() };
        Site {
            account: AccountName::parse("bakery").unwrap(),
            hostnames: vec![Host::parse(domain).unwrap()],
            document_root: "/home/bakery/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules { content: Box::new(content), ..SiteRules::default() },
        }
    }

    fn settings() -> Settings {
        let php = serde_json::json!({ "pool-folder": "/etc/pools", "test": ["t"], "reload": ["r"] });
        let mut settings = Settings::default();
        settings.php.insert("8.2".into(), serde_json::from_value(php).unwrap());
        settings
    }

    fn decided(changes: Vec<InventoryChange>, file: ExistingFile, others: Vec<Content>) -> Plan {
        let mut plan = Plan::new("site change");
        changes.into_iter().for_each(|change| plan.set.inventory(change));
        let name = AccountName::parse("bakery").unwrap();
        let account = Account {
            system_user: Some("baker".into()),
            ..Account::new(name.clone(), "baker@saltmarsh.example", "/home/bakery")
        };
        assert_eq!(touched_pools(&plan.set), BTreeSet::from([(name, "8.2".to_string())]));
        let loaded = PoolLoaded { account, version: "8.2".into(), limits: Limits::default(), file, others };
        with_pools(&mut plan, &[loaded], &settings(), &Layout::new("/harbor"));
        plan
    }

    fn files(plan: &Plan) -> Vec<&'static str> {
        let change = |change: &Change| match change {
            Change::WriteFile(_) => Some("write"),
            Change::RemoveFile(_) => Some("remove"),
            Change::MakeFolder(_) => Some("folder"),
            _ => None,
        };
        plan.set.changes.iter().filter_map(change).collect()
    }

    #[test]
    fn a_pool_comes_with_the_first_site_and_goes_with_the_last() {
        let (php, static_one) = (site("crumbandtide.example", "php:8.2"), site("crumbandtide.example", "/x=files"));
        let first = decided(vec![InventoryChange::AddSite(php.clone())], None, vec![]);
        assert_eq!(files(&first), ["folder", "folder", "write"]);
        let Some(Change::WriteFile(write)) = first.set.changes.last() else { panic!("the pool's file") };
        let written = write.content.to_vec();
        let away = InventoryChange::ReplaceSite { before: php.clone(), after: static_one };
        assert_eq!(files(&decided(vec![away.clone()], Some(written.clone()), vec![])), ["remove"]);
        // Another site of the account goes on with it.
        let other = Content::clone(&php.rules.content);
        assert!(files(&decided(vec![away], Some(written.clone()), vec![other])).is_empty());
        let gone = vec![InventoryChange::RemoveSite(php.clone())];
        assert_eq!(files(&decided(gone.clone(), Some(written), vec![])), ["remove"]);
        let edited = decided(gone, Some(b"[by-hand]\n".to_vec()), vec![]);
        assert!(files(&edited).is_empty() && edited.remarks.len() == 1, "what somebody has edited stays");
        let mut fresh = PoolLoaded {
            account: Account {
                system_user: Some("baker".into()),
                ..Account::new(php.account.clone(), "b@saltmarsh.example", "/home/bakery")
            },
            version: "8.2".into(),
            limits: Limits::default(),
            file: Some(write.content.to_vec()),
            others: vec![Content::clone(&php.rules.content)],
        };
        let mut settings = settings();
        let state = |pool: &PoolLoaded, settings: &Settings| pool_out_of_step(pool, settings, &Layout::new("/harbor"));
        assert_eq!(state(&fresh, &settings), None);
        settings.php.get_mut("8.2").unwrap().memory = 256;
        assert_eq!(state(&fresh, &settings), Some(SiteFileState::Outdated), "what harbor.toml says by now");
        settings.php.get_mut("8.2").unwrap().memory = 128;
        fresh.limits.scripts = Some(2);
        assert_eq!(state(&fresh, &settings), Some(SiteFileState::Outdated), "what the plan says by now");
        fresh.file = None;
        assert_eq!(state(&fresh, &settings), Some(SiteFileState::Missing));
        fresh.file = Some(b"[by-hand]\n".to_vec());
        assert_eq!(state(&fresh, &settings), Some(SiteFileState::Edited));
        let needs = first.set.needs();
        assert_eq!((needs.pools.len(), needs.gone_pools.len(), needs.web_reload), (1, 0, false));
    }

    #[test]
    fn another_system_user_gets_folders_that_it_can_enter() {
        let php = site("crumbandtide.example", "php:8.2");
        let first = decided(vec![InventoryChange::AddSite(php.clone())], None, vec![]);
        let Some(Change::WriteFile(write)) = first.set.changes.last() else { panic!("the pool's file") };
        let before = Account::new(php.account.clone(), "baker@saltmarsh.example", "/home/bakery");
        let after = Account { system_user: Some("miller".into()), ..before.clone() };
        let mut plan = Plan::new("account change");
        plan.set.inventory(InventoryChange::ReplaceAccount { before, after: after.clone() });
        assert_eq!(moved_accounts(&plan.set), [&after]);
        let pool = PoolLoaded {
            account: after,
            version: "8.2".into(),
            limits: Limits::default(),
            file: Some(write.content.to_vec()),
            others: vec![Content::clone(&php.rules.content)],
        };
        with_pools(&mut plan, &[pool], &settings(), &Layout::new("/harbor"));
        let lines: Vec<String> = plan.set.changes.iter().skip(1).map(Change::line).collect();
        let expected = [
            "make /harbor/php/bakery.miller/sessions",
            "make /harbor/php/bakery.miller/temporary",
            "change /etc/pools/brightharbor-bakery.conf (644)",
        ];
        assert_eq!(lines, expected);
    }

    #[test]
    fn a_site_that_changes_twice_in_one_command_counts_as_it_ends() {
        let (php, after) = (site("crumbandtide.example", "php:8.2"), site("crumbandtide.example", "/x=files"));
        let changes = vec![InventoryChange::AddSite(php.clone()), InventoryChange::ReplaceSite { before: php, after }];
        assert!(files(&decided(changes, None, vec![])).is_empty());
    }
}
