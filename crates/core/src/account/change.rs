//! The decision to change an account: how its customer is reached, what it may have, whose its folders are, and where
//! they lie.

use std::path::PathBuf;

use super::add::{UserSeen, UserWish, home_folder, make_user, refuse_user};
use super::{Account, AccountName, AccountRefusal, AccountRemark, HomeSeen, refuse_home};
use crate::change::{ExistingFile, InventoryChange, Plan, Remark};
use crate::harbor::{Layout, Settings};
use crate::site::{Site, change_site};

/// What was asked for. The inner `None` takes something away.
#[derive(Debug, Clone, Default)]
pub struct ChangeAccount {
    pub email: Option<String>,
    pub plan: Option<Option<AccountName>>,
    pub nameserver_set: Option<Option<String>>,
    pub reseller: Option<Option<AccountName>>,
    pub user: Option<UserWish>,
    /// Absolute.
    pub home: Option<PathBuf>,
}

impl ChangeAccount {
    pub fn is_empty(&self) -> bool {
        let Self { email, plan, nameserver_set, reseller, user, home } = self;
        email.is_none()
            && plan.is_none()
            && nameserver_set.is_none()
            && reseller.is_none()
            && user.is_none()
            && home.is_none()
    }
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct ChangeLoaded {
    pub account: Account,
    pub user: UserSeen,
    pub plan_is_there: bool,
    pub set_is_there: bool,
    /// The reseller that was named and those above it, in their order; empty if there is no such account.
    pub resellers: Vec<AccountName>,
    /// Whether the new mailbox lies in a zone of the account itself.
    pub mail_is_own: bool,
    pub home: HomeSeen,
    /// For another home: the account's sites with their files.
    pub sites: Vec<(Site, ExistingFile)>,
    /// Those of the folders that the sites would be served from which are there, and are no links.
    pub folders: Vec<PathBuf>,
}

/// Decides the change.
pub fn change_account(
    request: &ChangeAccount,
    loaded: &ChangeLoaded,
    settings: &Settings,
    layout: &Layout,
) -> Result<Plan, AccountRefusal> {
    let before = &loaded.account;
    let name = || before.name.clone();
    let mut after = before.clone();
    let mut plan = Plan::new(format!("account change {}", before.name));
    if let Some(email) = &request.email {
        after.email = email.clone();
        plan.remark(AccountRemark::Email { account: name(), email: email.clone() });
        if loaded.mail_is_own {
            plan.remark(AccountRemark::MailOnOwnDomain { email: email.clone() });
        }
    }
    if let Some(wanted) = &request.plan {
        if let Some(unknown) = wanted.as_ref().filter(|_| !loaded.plan_is_there) {
            return Err(AccountRefusal::UnknownPlan(unknown.clone()));
        }
        after.plan = wanted.clone();
        plan.remark(AccountRemark::Plan { account: name(), plan: wanted.clone() });
    }
    if let Some(set) = &request.nameserver_set {
        if let Some(unknown) = set.as_ref().filter(|_| !loaded.set_is_there) {
            return Err(AccountRefusal::UnknownSet(unknown.clone()));
        }
        after.nameserver_set = set.clone();
        plan.remark(AccountRemark::NameserverSet { account: name(), set: set.clone() });
    }
    if let Some(reseller) = &request.reseller {
        if let Some(reseller) = reseller {
            refuse_circle(&before.name, reseller, &loaded.resellers)?;
        }
        after.reseller = reseller.clone();
        plan.remark(AccountRemark::Reseller { account: name(), reseller: reseller.clone() });
    }
    if let Some(user) = &request.user {
        refuse_user(user, loaded.user)?;
        make_user(&mut plan, user, &after.home);
        after.system_user = user.name.clone();
        let (user, home) = (user.name.clone(), after.home.clone());
        plan.remark(AccountRemark::SystemUser { account: name(), user, home });
    }
    if let Some(home) = &request.home {
        refuse_home(home, &loaded.home).map_err(AccountRefusal::Home)?;
        after.home = home.clone();
    }
    if after.home != before.home {
        move_home(before, &after, loaded, settings, layout, &mut plan)?;
    }
    if after == *before {
        plan.remarks = vec![Remark::Unchanged];
        return Ok(plan);
    }
    plan.set.inventory(InventoryChange::ReplaceAccount { before: before.clone(), after });
    Ok(plan)
}

/// An account cannot be its own reseller, however many stand between.
fn refuse_circle(account: &AccountName, reseller: &AccountName, chain: &[AccountName]) -> Result<(), AccountRefusal> {
    if chain.is_empty() {
        return Err(AccountRefusal::Unknown(reseller.clone()));
    }
    match chain.contains(account) {
        true => Err(AccountRefusal::ResellerCircle { account: account.clone(), through: reseller.clone() }),
        false => Ok(()),
    }
}

/// The sites follow to the same folders below the new home, which must be there already.
fn move_home(
    before: &Account,
    after: &Account,
    loaded: &ChangeLoaded,
    settings: &Settings,
    layout: &Layout,
    plan: &mut Plan,
) -> Result<(), AccountRefusal> {
    for (site, _) in &loaded.sites {
        let root = moved(site, before, after).unwrap_or_else(|| site.document_root.clone());
        if !loaded.folders.contains(&root) {
            let (before, after) = (before.home.clone(), after.home.clone());
            return Err(AccountRefusal::HomeNotMoved { site: site.main().clone(), root, before, after });
        }
    }
    plan.change(home_folder(after));
    for (site, file) in &loaded.sites {
        if let Some(document_root) = moved(site, before, after) {
            let changed = Site { document_root, ..site.clone() };
            change_site(plan, site, &changed, file.clone(), settings, layout);
        }
    }
    let (account, home, sites) = (after.name.clone(), after.home.clone(), loaded.sites.len());
    plan.remark(AccountRemark::Home { account, home, sites });
    Ok(())
}

/// Where a site's document root lies once the home has moved; `None` if it lies outside the home.
pub fn moved(site: &Site, before: &Account, after: &Account) -> Option<PathBuf> {
    site.document_root.strip_prefix(&before.home).ok().map(|below| after.home.join(below))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::{HttpsStates, SiteKind, SiteRules};

    fn name(text: &str) -> AccountName {
        AccountName::parse(text).unwrap()
    }

    fn loaded() -> ChangeLoaded {
        ChangeLoaded {
            account: Account::new(name("bakery"), "baker@saltmarsh.example", "/home/bakery"),
            user: UserSeen::default(),
            plan_is_there: false,
            set_is_there: false,
            resellers: vec![],
            mail_is_own: false,
            home: HomeSeen { harbor: "/harbor".into(), real: "/srv/bakery".into(), ..HomeSeen::default() },
            sites: vec![],
            folders: vec![],
        }
    }

    fn decide(request: &ChangeAccount, loaded: &ChangeLoaded) -> Result<Plan, AccountRefusal> {
        change_account(request, loaded, &Settings::default(), &Layout::new("/harbor"))
    }

    #[test]
    fn what_is_as_asked_for_already_changes_nothing() {
        let request = ChangeAccount { email: Some("baker@saltmarsh.example".into()), ..ChangeAccount::default() };
        let plan = decide(&request, &loaded()).unwrap();
        assert!(plan.is_empty() && plan.remarks == [Remark::Unchanged]);
    }

    #[test]
    fn nobody_is_sold_by_itself() {
        let request = ChangeAccount { reseller: Some(Some(name("choir"))), ..ChangeAccount::default() };
        let sold_by = |chain: &[&str]| {
            let resellers = chain.iter().map(|one| name(one)).collect();
            decide(&request, &ChangeLoaded { resellers, ..loaded() }).map(|plan| plan.set.changes.len())
        };
        assert_eq!(sold_by(&[]), Err(AccountRefusal::Unknown(name("choir"))));
        assert_eq!(sold_by(&["choir", "boatyard"]), Ok(1));
        let circle = AccountRefusal::ResellerCircle { account: name("bakery"), through: name("choir") };
        assert_eq!(sold_by(&["choir", "boatyard", "bakery"]), Err(circle));
        let alone = ChangeAccount { reseller: Some(None), ..ChangeAccount::default() };
        assert!(decide(&alone, &loaded()).unwrap().is_empty());
    }

    #[test]
    fn sites_follow_a_home_whose_folders_are_there() {
        let site = Site {
            account: name("bakery"),
            hostnames: vec![crate::name::Host::parse("crumbandtide.example").unwrap()],
            document_root: "/home/bakery/www/crumbandtide.example".into(),
            kind: SiteKind::AddonDomain,
            https: HttpsStates::default(),
            certificate: None,
            rules: SiteRules::default(),
        };
        let request = ChangeAccount { home: Some("/home/oven".into()), ..ChangeAccount::default() };
        let mut loaded = ChangeLoaded { sites: vec![(site, None)], ..loaded() };
        let refused = decide(&request, &loaded).unwrap_err();
        assert!(matches!(refused, AccountRefusal::HomeNotMoved { .. }), "{refused:?}");
        loaded.folders = vec!["/home/oven/www/crumbandtide.example".into()];
        let plan = decide(&request, &loaded).unwrap();
        let roots: Vec<&PathBuf> = plan
            .set
            .inventory_changes()
            .filter_map(|change| match change {
                InventoryChange::ReplaceSite { after, .. } => Some(&after.document_root),
                _ => None,
            })
            .collect();
        assert_eq!(roots, [&loaded.folders[0]]);
        let outside = ChangeAccount { home: Some("oven".into()), ..ChangeAccount::default() };
        assert!(matches!(decide(&outside, &loaded), Err(AccountRefusal::Home(_))));
    }

    #[test]
    fn a_plan_or_set_that_is_not_there_refuses_and_none_takes_it_away() {
        let plan = ChangeAccount { plan: Some(Some(name("small"))), ..ChangeAccount::default() };
        assert_eq!(decide(&plan, &loaded()), Err(AccountRefusal::UnknownPlan(name("small"))));
        let set = ChangeAccount { nameserver_set: Some(Some("deep".into())), ..ChangeAccount::default() };
        assert_eq!(decide(&set, &loaded()), Err(AccountRefusal::UnknownSet("deep".into())));
        let mut limited = loaded();
        limited.account.plan = Some(name("small"));
        let none = ChangeAccount { plan: Some(None), ..ChangeAccount::default() };
        let plan = decide(&none, &limited).unwrap();
        assert_eq!(plan.remarks, [AccountRemark::Plan { account: name("bakery"), plan: None }.into()]);
        assert_eq!(plan.set.changes.len(), 1);
    }
}
