//! The decision to add an account: its home, its system user, and what it may have.

use std::path::{Path, PathBuf};

use super::{Account, AccountName, AccountRefusal, AccountRemark, HomeRefusal, HomeSeen, refuse_home};
use crate::change::{Change, FolderMake, InventoryChange, Plan, UserMake};
use crate::harbor::Settings;
use crate::name::Hostname;

/// What was asked for.
#[derive(Debug, Clone)]
pub struct AddAccount {
    pub name: AccountName,
    pub email: String,
    /// Absolute; as the settings say when not given.
    pub home: Option<PathBuf>,
    /// Whether the home may be there already.
    pub existing: bool,
    pub user: UserWish,
    pub plan: Option<AccountName>,
    pub nameserver_set: Option<String>,
    pub reseller: Option<AccountName>,
    /// The domain that the same command attaches next.
    pub domain: Option<Hostname>,
}

/// The system user of an account as asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct UserWish {
    pub name: Option<String>,
    /// Whether it is to be made.
    pub create: bool,
}

/// What is known of the system users of this machine.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct UserSeen {
    pub exists: bool,
    /// Whether it is root, under whatever name.
    pub has_root_id: bool,
    /// Whether this program may make one.
    pub is_root: bool,
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct AddLoaded {
    /// Whether there is an account of that name.
    pub is_there: bool,
    pub user: UserSeen,
    pub home: HomeSeen,
    /// Whether the plan, the nameserver set and the reseller that were named are there.
    pub plan_is_there: bool,
    pub set_is_there: bool,
    pub reseller_is_there: bool,
}

/// The home that an account gets.
pub fn wanted_home(request: &AddAccount, settings: &Settings) -> PathBuf {
    let usual = || PathBuf::from(settings.sites.home.replace("{account}", request.name.as_str()));
    request.home.clone().unwrap_or_else(usual)
}

/// Decides the new account.
pub fn add_account(request: &AddAccount, loaded: &AddLoaded, settings: &Settings) -> Result<Plan, AccountRefusal> {
    let name = &request.name;
    if loaded.is_there {
        return Err(AccountRefusal::Exists(name.clone()));
    }
    let home = wanted_home(request, settings);
    refuse_home(&home, &loaded.home).map_err(AccountRefusal::Home)?;
    if loaded.home.is_there && !request.existing {
        return Err(AccountRefusal::Home(HomeRefusal::IsThere(home)));
    }
    refuse_user(&request.user, loaded.user)?;
    refuse_unknown(request.plan.as_ref(), loaded.plan_is_there, AccountRefusal::UnknownPlan)?;
    refuse_unknown(request.nameserver_set.as_ref(), loaded.set_is_there, AccountRefusal::UnknownSet)?;
    refuse_unknown(request.reseller.as_ref(), loaded.reseller_is_there, AccountRefusal::Unknown)?;
    let account = Account {
        system_user: request.user.name.clone(),
        plan: request.plan.clone(),
        nameserver_set: request.nameserver_set.clone(),
        reseller: request.reseller.clone(),
        ..Account::new(name.clone(), request.email.clone(), home.clone())
    };
    let mut plan = Plan::new(format!("account add {name}"));
    plan.remark(AccountRemark::Added { account: name.clone(), home: home.clone() });
    if loaded.home.is_there {
        plan.remark(AccountRemark::HomeTaken { home: home.clone() });
    }
    make_user(&mut plan, &request.user, &home);
    let own = |domain: &Hostname| request.email.to_ascii_lowercase().ends_with(&format!("@{domain}"));
    if request.domain.as_ref().is_some_and(own) {
        plan.remark(AccountRemark::MailOnOwnDomain { email: request.email.clone() });
    }
    plan.change(home_folder(&account));
    plan.set.inventory(InventoryChange::AddAccount(account));
    Ok(plan)
}

fn refuse_unknown<T: Clone>(
    named: Option<&T>,
    is_there: bool,
    refusal: impl FnOnce(T) -> AccountRefusal,
) -> Result<(), AccountRefusal> {
    match named {
        Some(name) if !is_there => Err(refusal(name.clone())),
        _ => Ok(()),
    }
}

/// A user that is there, or one that can be made.
pub(super) fn refuse_user(wish: &UserWish, seen: UserSeen) -> Result<(), AccountRefusal> {
    let Some(user) = wish.name.clone() else { return Ok(()) };
    if seen.has_root_id {
        return Err(AccountRefusal::UserIsRoot(user));
    }
    match (seen.exists, wish.create) {
        (false, false) => Err(AccountRefusal::NoUser(user)),
        (true, true) => Err(AccountRefusal::UserExists(user)),
        (false, true) if !seen.is_root => Err(AccountRefusal::NotRoot(user)),
        _ => Ok(()),
    }
}

pub(super) fn make_user(plan: &mut Plan, wish: &UserWish, home: &Path) {
    if let Some(name) = wish.name.clone().filter(|_| wish.create) {
        plan.remark(AccountRemark::UserMade { user: name.clone() });
        plan.change(Change::MakeUser(UserMake { name, home: home.to_path_buf() }));
    }
}

/// The home itself, made if its parent is there.
pub(super) fn home_folder(account: &Account) -> Change {
    Change::MakeFolder(FolderMake {
        home: account.home.clone(),
        below: PathBuf::new(),
        system_user: account.system_user.clone(),
        mode: 0o711,
        group: None,
        early: false,
        starter_page: None,
        starter_files: vec![],
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> AccountName {
        AccountName::parse(text).unwrap()
    }

    fn request() -> AddAccount {
        AddAccount {
            name: name("bakery"),
            email: "baker@saltmarsh.example".into(),
            home: None,
            existing: false,
            user: UserWish::default(),
            plan: None,
            nameserver_set: None,
            reseller: None,
            domain: None,
        }
    }

    fn nothing() -> AddLoaded {
        AddLoaded {
            is_there: false,
            user: UserSeen::default(),
            home: HomeSeen { real: "/home/bakery".into(), harbor: "/harbor".into(), ..HomeSeen::default() },
            plan_is_there: false,
            set_is_there: false,
            reseller_is_there: false,
        }
    }

    #[test]
    fn a_home_is_made_as_the_settings_say_and_a_user_only_where_it_was_asked_for() {
        let plan = add_account(&request(), &nothing(), &Settings::default()).unwrap();
        let home = PathBuf::from("/home/bakery");
        assert_eq!(plan.remarks, [AccountRemark::Added { account: name("bakery"), home: home.clone() }.into()]);
        assert_eq!(plan.set.changes.len(), 2);
        let with_user = AddAccount { user: UserWish { name: Some("web".into()), create: true }, ..request() };
        let root = AddLoaded { user: UserSeen { is_root: true, ..UserSeen::default() }, ..nothing() };
        let plan = add_account(&with_user, &root, &Settings::default()).unwrap();
        assert_eq!(plan.set.changes[0], Change::MakeUser(UserMake { name: "web".into(), home }));
    }

    #[test]
    fn what_is_not_there_or_is_there_already_refuses() {
        let decide = |request: &AddAccount, loaded: &AddLoaded| add_account(request, loaded, &Settings::default());
        let is_there = AddLoaded { is_there: true, ..nothing() };
        assert_eq!(decide(&request(), &is_there), Err(AccountRefusal::Exists(name("bakery"))));
        let relative = AddAccount { home: Some("bakery".into()), ..request() };
        assert!(matches!(decide(&relative, &nothing()), Err(AccountRefusal::Home(_))));
        let there = AddLoaded { home: HomeSeen { is_there: true, ..nothing().home }, ..nothing() };
        let refused = AccountRefusal::Home(HomeRefusal::IsThere("/home/bakery".into()));
        assert_eq!(decide(&request(), &there), Err(refused));
        let taken = decide(&AddAccount { existing: true, ..request() }, &there).unwrap();
        assert_eq!(taken.remarks[1], AccountRemark::HomeTaken { home: "/home/bakery".into() }.into());
        let plan = AddAccount { plan: Some(name("small")), ..request() };
        assert_eq!(decide(&plan, &nothing()), Err(AccountRefusal::UnknownPlan(name("small"))));
        assert!(decide(&plan, &AddLoaded { plan_is_there: true, ..nothing() }).is_ok());
        let set = AddAccount { nameserver_set: Some("deep".into()), ..request() };
        assert_eq!(decide(&set, &nothing()), Err(AccountRefusal::UnknownSet("deep".into())));
        let sold = AddAccount { reseller: Some(name("nobody")), ..request() };
        assert_eq!(decide(&sold, &nothing()), Err(AccountRefusal::Unknown(name("nobody"))));
    }

    #[test]
    fn users_are_made_by_root_alone_and_never_twice() {
        let refused = |create, exists, is_root| {
            let wish = UserWish { name: Some("web".into()), create };
            refuse_user(&wish, UserSeen { exists, is_root, has_root_id: false }).err()
        };
        assert_eq!(refused(false, true, false), None);
        assert_eq!(refused(false, false, true), Some(AccountRefusal::NoUser("web".into())));
        assert_eq!(refused(true, true, true), Some(AccountRefusal::UserExists("web".into())));
        assert_eq!(refused(true, false, false), Some(AccountRefusal::NotRoot("web".into())));
        assert_eq!(refused(true, false, true), None);
        assert_eq!(refuse_user(&UserWish::default(), UserSeen::default()), Ok(()));
        let toor = UserSeen { exists: true, has_root_id: true, is_root: true };
        let wish = UserWish { name: Some("toor".into()), create: false };
        assert_eq!(refuse_user(&wish, toor), Err(AccountRefusal::UserIsRoot("toor".into())));
    }

    #[test]
    fn a_mailbox_on_the_domain_that_comes_next_is_remarked_upon() {
        let domain = Hostname::parse("crumbandtide.example").ok();
        let decide = |email: &str| {
            let request = AddAccount { email: email.into(), domain: domain.clone(), ..request() };
            add_account(&request, &nothing(), &Settings::default()).unwrap().remarks.len()
        };
        assert_eq!((decide("baker@CrumbAndTide.example"), decide("baker@saltmarsh.example")), (2, 1));
    }
}
