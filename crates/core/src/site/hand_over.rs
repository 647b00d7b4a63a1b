//! The decision to hand a domain over to another account: its site with all that lies below its names, and the zones. Records,
//! certificates and the way it is served stay; pages do not move, as they lie in the home of the account of before.

use std::collections::BTreeMap;
use std::path::PathBuf;

use super::change::root_folder;
use super::{Site, SiteRefusal, SiteRemark, change_site, document_root};
use crate::account::{Account, AccountName, AccountPlan, Counted, Usage, check_limit};
use crate::change::{ExistingFile, InventoryChange, Plan};
use crate::harbor::{Layout, Settings};
use crate::name::{Host, is_registrable};
use crate::site::SiteKind;
use crate::zone::{Zone, ZoneRemark};

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct HandOverLoaded {
    pub to: AccountName,
    /// Who that is; `None`: nobody.
    pub account: Option<Account>,
    /// What that account may have and has, where it has a plan.
    pub limit: Option<(AccountPlan, Usage)>,
    /// The site, and the sites of its account that lie below its names, each with its file.
    pub sites: Vec<(Site, ExistingFile)>,
    /// The zones of its account that are named by one of those names.
    pub zones: Vec<Zone>,
    /// Names below that belong to somebody else already.
    pub foreign: Vec<Host>,
}

/// Decides it. A `given` document root, relative to the new home, is for the first site.
pub fn hand_over(
    loaded: &HandOverLoaded,
    given: Option<&std::path::Path>,
    settings: &Settings,
    layout: &Layout,
) -> Result<Plan, SiteRefusal> {
    let unknown = || SiteRefusal::UnknownAccount(loaded.to.clone());
    let account = loaded.account.as_ref().ok_or_else(unknown)?;
    let mut plan = Plan::new(format!("hand over to {}", account.name));
    refuse_beyond_plan(loaded, account)?;
    for (at, (site, file)) in loaded.sites.iter().enumerate() {
        if site.account == account.name {
            continue;
        }
        if site.rules.content.php_versions().next().is_some() && account.system_user.is_none() {
            return Err(SiteRefusal::PhpWithoutUser(account.name.clone()));
        }
        let given = given.filter(|_| at == 0);
        let root: PathBuf = document_root(given, &settings.sites.document_root, account, site.main())?;
        let after = Site { account: account.name.clone(), document_root: root.clone(), ..site.clone() };
        plan.change(root_folder(&root, account, site, settings, layout));
        change_site(&mut plan, site, &after, file.clone(), settings, layout);
        let (main, before) = (site.main().clone(), site.document_root.clone());
        plan.remark(SiteRemark::HandedOver { site: main.clone(), account: account.name.clone() });
        plan.remark(SiteRemark::DocumentRoot { site: main, before: before.clone(), after: root });
        plan.remark(SiteRemark::PagesStay { document_root: before });
    }
    for zone in loaded.zones.iter().filter(|zone| zone.account != account.name) {
        let after = Zone { account: account.name.clone(), ..zone.clone() };
        plan.set.inventory(InventoryChange::ReplaceZone { before: zone.clone(), after });
        plan.remark(ZoneRemark::HandedTo { zone: zone.name.clone(), account: account.name.clone() });
    }
    if plan.is_empty() {
        plan.remark(crate::change::Remark::Unchanged);
    }
    for host in &loaded.foreign {
        plan.remark(SiteRemark::StaysWithItsAccount { hostname: host.clone() });
    }
    Ok(plan)
}

fn refuse_beyond_plan(loaded: &HandOverLoaded, account: &Account) -> Result<(), SiteRefusal> {
    let Some((limits, usage)) = &loaded.limit else { return Ok(()) };
    let mut more: BTreeMap<Counted, u32> = BTreeMap::new();
    for (site, _) in loaded.sites.iter().filter(|(site, _)| site.account != account.name) {
        match site.kind {
            SiteKind::AddonDomain => *more.entry(Counted::AddonDomains).or_default() += 1,
            SiteKind::Subdomain => *more.entry(Counted::Subdomains).or_default() += 1,
            SiteKind::ByAddress => {}
        }
        let aliases = site.hostnames[1..].iter().filter(|host| host.name().is_some_and(is_registrable)).count();
        *more.entry(Counted::AliasDomains).or_default() += aliases as u32;
        *more.entry(Counted::Redirects).or_default() += site.rules.redirects.len() as u32;
    }
    for (counted, more) in more.into_iter().filter(|(_, more)| *more > 0) {
        check_limit(&account.name, limits, usage, counted, more)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::Limits;
    use crate::change::{Change, Remark};
    use crate::harbor::WebServer;
    use crate::name::Hostname;
    use crate::site::{HttpsState, HttpsStates, SiteRules};
    use crate::zone::ZoneHome;

    fn account(name: &str) -> AccountName {
        AccountName::parse(name).unwrap()
    }

    fn site(domain: &str, kind: SiteKind) -> Site {
        let host = Host::parse(domain).unwrap();
        Site {
            account: account("bakery"),
            https: HttpsStates::all([&host], HttpsState::Forced),
            hostnames: vec![host],
            document_root: format!("/home/bakery/www/{domain}").into(),
            kind,
            certificate: None,
            rules: SiteRules::default(),
        }
    }

    fn loaded() -> HandOverLoaded {
        let zone = Zone::new(Hostname::parse("crumbandtide.example").unwrap(), account("bakery"), ZoneHome::Here);
        HandOverLoaded {
            to: account("choir"),
            account: Some(Account::new(account("choir"), "choir@saltmarsh.example", "/home/choir")),
            limit: None,
            sites: vec![
                (site("crumbandtide.example", SiteKind::AddonDomain), None),
                (site("shop.crumbandtide.example", SiteKind::Subdomain), None),
            ],
            zones: vec![zone],
            foreign: vec![],
        }
    }

    fn decide(loaded: &HandOverLoaded) -> Result<Plan, SiteRefusal> {
        let mut settings = Settings::default();
        settings.web.server = WebServer::Nginx;
        hand_over(loaded, None, &settings, &Layout::new("/harbor"))
    }

    #[test]
    fn sites_and_zone_go_with_folders_of_their_own_and_keep_what_they_have() {
        let plan = decide(&loaded()).unwrap();
        let after: Vec<Site> = plan
            .set
            .inventory_changes()
            .filter_map(|change| match change {
                InventoryChange::ReplaceSite { after, .. } => Some(after.clone()),
                _ => None,
            })
            .collect();
        assert_eq!(after.len(), 2);
        for site in &after {
            assert!(site.account == account("choir") && site.document_root.starts_with("/home/choir"), "{site:?}");
            assert!(site.is_forced(site.main()), "https stays");
        }
        assert_eq!(plan.set.changes.iter().filter(|change| matches!(change, Change::MakeFolder(_))).count(), 2);
        let handed = |change: &InventoryChange| matches!(change, InventoryChange::ReplaceZone { after, .. } if after.account == account("choir"));
        assert!(plan.set.inventory_changes().any(handed));
    }

    #[test]
    fn the_plan_of_the_new_account_counts_and_nothing_changes_twice() {
        let limits =
            AccountPlan { name: account("small"), limits: Limits { subdomains: Some(0), ..Limits::default() } };
        let full = HandOverLoaded { limit: Some((limits, Usage::default())), ..loaded() };
        assert!(matches!(decide(&full), Err(SiteRefusal::Limit(_))));
        let nobody = HandOverLoaded { account: None, ..loaded() };
        assert!(matches!(decide(&nobody), Err(SiteRefusal::UnknownAccount(_))));
        let mut done = loaded();
        done.sites.iter_mut().for_each(|(site, _)| site.account = account("choir"));
        done.zones[0].account = account("choir");
        let plan = decide(&done).unwrap();
        assert!(plan.is_empty() && plan.remarks == [Remark::Unchanged]);
    }
}
