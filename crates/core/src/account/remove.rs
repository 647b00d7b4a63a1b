//! The decision that an account goes: its sites detached, its zones removed or left to another one. Nothing in a home is
//! deleted.

use super::{Account, AccountName, AccountRefusal, AccountRemark};
use crate::change::{InventoryChange, Plan};
use crate::zone::Zone;

/// What was asked for.
#[derive(Debug, Clone)]
pub struct RemoveAccount {
    pub name: AccountName,
    /// Whether its sites are detached.
    pub detach: bool,
    /// The account that its zones are left to.
    pub zones_to: Option<AccountName>,
}

/// What the decision rests on.
#[derive(Debug, Clone)]
pub struct RemoveLoaded {
    pub account: Account,
    pub sold: Vec<Account>,
    pub sites: usize,
    pub zones: Vec<Zone>,
    pub heir_is_there: bool,
}

/// Decides about the account itself and about zones that are left to another one. Its sites, and zones that go, are
/// decided before this by `site::detach` and `zone::remove_zone`: the account goes last.
pub fn remove_account(request: &RemoveAccount, loaded: &RemoveLoaded) -> Result<Plan, AccountRefusal> {
    let RemoveLoaded { account, sold, sites, zones, heir_is_there } = loaded;
    if let Some(first) = sold.first() {
        let (account, first) = (account.name.clone(), first.name.clone());
        return Err(AccountRefusal::Sells { account, count: sold.len(), first });
    }
    if !request.detach && (*sites > 0 || !zones.is_empty()) {
        return Err(AccountRefusal::InUse { account: account.name.clone(), sites: *sites, zones: zones.len() });
    }
    let mut plan = Plan::new(format!("account remove {}", account.name));
    plan.remark(AccountRemark::Removed { account: account.name.clone() });
    plan.remark(AccountRemark::HomeStays { home: account.home.clone() });
    if let Some(heir) = &request.zones_to {
        if *heir == account.name {
            return Err(AccountRefusal::LeftToItself(heir.clone()));
        }
        if !heir_is_there {
            return Err(AccountRefusal::Unknown(heir.clone()));
        }
        for zone in zones {
            plan.remark(crate::zone::ZoneRemark::HandedTo { zone: zone.name.clone(), account: heir.clone() });
            let after = Zone { account: heir.clone(), ..zone.clone() };
            plan.set.inventory(InventoryChange::ReplaceZone { before: zone.clone(), after });
        }
    }
    plan.set.inventory(InventoryChange::RemoveAccount(account.clone()));
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::Hostname;
    use crate::zone::ZoneHome;

    fn account(name: &str) -> Account {
        Account::new(AccountName::parse(name).unwrap(), "baker@saltmarsh.example", format!("/home/{name}"))
    }

    fn loaded() -> RemoveLoaded {
        let zone = Zone::new(Hostname::parse("gullrock.example").unwrap(), account("bakery").name, ZoneHome::Here);
        RemoveLoaded { account: account("bakery"), sold: vec![], sites: 0, zones: vec![zone], heir_is_there: true }
    }

    fn request(detach: bool, zones_to: Option<&str>) -> RemoveAccount {
        let zones_to = zones_to.map(|name| AccountName::parse(name).unwrap());
        RemoveAccount { name: account("bakery").name, detach, zones_to }
    }

    #[test]
    fn an_account_in_use_stays_until_it_is_said_what_becomes_of_its_things() {
        let refused = remove_account(&request(false, None), &loaded()).unwrap_err();
        assert_eq!(refused, AccountRefusal::InUse { account: account("bakery").name, sites: 0, zones: 1 });
        let bare = RemoveLoaded { zones: vec![], ..loaded() };
        assert!(remove_account(&request(false, None), &bare).is_ok());
        let sites = RemoveLoaded { zones: vec![], sites: 1, ..loaded() };
        assert!(remove_account(&request(false, None), &sites).is_err());
        let sells = RemoveLoaded { sold: vec![account("choir")], ..loaded() };
        let refused = remove_account(&request(true, None), &sells).unwrap_err();
        assert!(matches!(refused, AccountRefusal::Sells { count: 1, .. }), "{refused:?}");
    }

    #[test]
    fn zones_are_left_to_another_account_that_is_there() {
        let plan = remove_account(&request(true, Some("choir")), &loaded()).unwrap();
        let heirs: Vec<&str> = plan
            .set
            .inventory_changes()
            .filter_map(|change| match change {
                InventoryChange::ReplaceZone { after, .. } => Some(after.account.as_str()),
                _ => None,
            })
            .collect();
        assert_eq!(heirs, ["choir"]);
        let itself = remove_account(&request(true, Some("bakery")), &loaded()).unwrap_err();
        assert_eq!(itself, AccountRefusal::LeftToItself(account("bakery").name));
        let nobody = RemoveLoaded { heir_is_there: false, ..loaded() };
        let refused = remove_account(&request(true, Some("choir")), &nobody).unwrap_err();
        assert_eq!(refused, AccountRefusal::Unknown(account("choir").name));
        // Without an heir its zones are for `remove_zone`.
        let alone = remove_account(&request(true, None), &loaded()).unwrap();
        let removed: Vec<&InventoryChange> = alone.set.inventory_changes().collect();
        assert_eq!(removed, [&InventoryChange::RemoveAccount(account("bakery"))]);
    }
}
