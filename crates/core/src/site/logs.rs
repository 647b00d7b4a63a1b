//! Where the web server logs what happens at a site: outside of homes, in a folder that its account may read.

use std::path::{Path, PathBuf};

use super::Site;
use crate::account::{Account, AccountName};
use crate::change::{Change, ChangeSet, FolderMake, InventoryChange, Plan, Purpose};
use crate::name::Host;

/// The logs of a site.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SiteLogs {
    /// One line a request.
    pub access: PathBuf,
    /// What went wrong, in the server's own words.
    pub errors: PathBuf,
}

impl SiteLogs {
    /// Those of a site, below the folder of the settings.
    pub fn of(folder: &Path, site: &Site) -> Self {
        let main: &Host = site.main();
        let of_account = folder.join(site.account.as_str());
        // An address of IPv6 would be a name with colons and brackets.
        let name = main.as_str().trim_matches(['[', ']']).replace(':', "-");
        Self {
            access: of_account.join(format!("{name}.access.log")),
            errors: of_account.join(format!("{name}.error.log")),
        }
    }
}

/// The accounts whose sites a change writes.
pub fn logging_accounts(set: &ChangeSet) -> Vec<&AccountName> {
    let mut all: Vec<&AccountName> = set
        .inventory_changes()
        .filter_map(|change| match change {
            InventoryChange::AddSite(site) | InventoryChange::ReplaceSite { after: site, .. } => Some(&site.account),
            _ => None,
        })
        .collect();
    all.sort();
    all.dedup();
    all
}

/// The sites whose files a change writes, by the names of the files.
pub fn written_sites(set: &ChangeSet) -> Vec<Host> {
    let written = set.changes.iter().filter_map(|change| match change {
        Change::WriteFile(write) if write.purpose == Purpose::SiteFile => write.path.file_stem()?.to_str(),
        _ => None,
    });
    written.filter_map(|stem| Host::parse(stem.trim_start_matches('+')).ok()).collect()
}

/// Adds the folders that are not there: the web server opens its logs when it tests its configuration.
pub fn with_log_folders(plan: &mut Plan, folder: &Path, missing: &[Account]) {
    for account in missing {
        plan.change(Change::MakeFolder(FolderMake {
            home: folder.to_path_buf(),
            below: account.name.as_str().into(),
            system_user: None,
            mode: 0o750,
            group: account.system_user.clone(),
            early: true,
            starter_page: None,
            starter_files: vec![],
        }));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::{HttpsStates, SiteKind, SiteRules};

    #[test]
    fn logs_are_named_by_their_site_and_lie_with_their_account() {
        let mut site = Site {
            account: AccountName::parse("bakery").unwrap(),
            hostnames: vec![Host::parse("crumbandtide.example").unwrap()],
            document_root: "/home/bakery/www".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        };
        let folder = Path::new("/var/log/brightharbor");
        let logs = SiteLogs::of(folder, &site);
        assert_eq!(logs.access, folder.join("bakery/crumbandtide.example.access.log"));
        site.hostnames = vec![Host::parse("[2001:db8::10]").unwrap()];
        assert_eq!(SiteLogs::of(folder, &site).errors, folder.join("bakery/2001-db8--10.error.log"));
        let mut plan = Plan::new("attach");
        plan.set.inventory(InventoryChange::AddSite(site.clone()));
        assert_eq!(logging_accounts(&plan.set), [&site.account]);
        for name in ["+[2001:db8::10].conf", "+~unknown-hosts.conf", "quay.example.conf"] {
            let path = Path::new("/harbor/servers/nginx").join(name);
            plan.set.file(crate::change::FileWrite::new(path, None, "", 0o644, Purpose::SiteFile));
        }
        let names: Vec<String> = written_sites(&plan.set).iter().map(Host::to_string).collect();
        assert_eq!(names, ["[2001:db8::10]", "quay.example"]);
        plan.set.changes.retain(|change| !matches!(change, Change::WriteFile(_)));
        let account = Account::new(site.account, "baker@saltmarsh.example", "/home/bakery");
        with_log_folders(&mut plan, folder, &[account]);
        assert_eq!(plan.set.phases()[0], crate::change::Phase::Files, "before the server tests");
    }
}
