//! The decisions to add, change and remove plans.

use super::{AccountName, AccountPlan, AccountRefusal, AccountRemark, Limits};
use crate::change::{InventoryChange, Plan, Remark};

/// A limit as asked for: the inner `None` is no limit.
pub type LimitWish = Option<Option<u32>>;

/// The limits of a plan that were named.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct LimitWishes {
    pub addon_domains: LimitWish,
    pub subdomains: LimitWish,
    pub alias_domains: LimitWish,
    pub redirects: LimitWish,
    pub disk: LimitWish,
    pub scripts: LimitWish,
    pub script_memory: LimitWish,
}

impl LimitWishes {
    /// Exactly these limits, whatever there was.
    pub fn all(limits: Limits) -> Self {
        let Limits { addon_domains, subdomains, alias_domains, redirects, disk, scripts, script_memory } = limits;
        Self {
            addon_domains: Some(addon_domains),
            subdomains: Some(subdomains),
            alias_domains: Some(alias_domains),
            redirects: Some(redirects),
            disk: Some(disk),
            scripts: Some(scripts),
            script_memory: Some(script_memory),
        }
    }

    fn onto(&self, before: Limits) -> Limits {
        Limits {
            addon_domains: self.addon_domains.unwrap_or(before.addon_domains),
            subdomains: self.subdomains.unwrap_or(before.subdomains),
            alias_domains: self.alias_domains.unwrap_or(before.alias_domains),
            redirects: self.redirects.unwrap_or(before.redirects),
            disk: self.disk.unwrap_or(before.disk),
            scripts: self.scripts.unwrap_or(before.scripts),
            script_memory: self.script_memory.unwrap_or(before.script_memory),
        }
    }
}

/// Decides a new plan. `like` is the one that it begins with, as named and as found.
pub fn add_plan(
    name: &AccountName,
    present: Option<&AccountPlan>,
    like: Option<(&AccountName, Option<&AccountPlan>)>,
    wishes: &LimitWishes,
) -> Result<Plan, AccountRefusal> {
    if present.is_some() {
        return Err(AccountRefusal::PlanExists(name.clone()));
    }
    let start = match like {
        None => Limits::default(),
        Some((_, Some(like))) => like.limits,
        Some((named, None)) => return Err(AccountRefusal::UnknownPlan(named.clone())),
    };
    Ok(set_plan("add", AccountPlan { name: name.clone(), limits: wishes.onto(start) }))
}

/// Decides other limits. What accounts have already stays.
pub fn change_plan(
    name: &AccountName,
    present: Option<&AccountPlan>,
    wishes: &LimitWishes,
) -> Result<Plan, AccountRefusal> {
    let present = present.ok_or_else(|| AccountRefusal::UnknownPlan(name.clone()))?;
    let after = AccountPlan { name: name.clone(), limits: wishes.onto(present.limits) };
    if after == *present {
        let mut plan = Plan::new(format!("plan change {name}"));
        plan.remark(Remark::Unchanged);
        return Ok(plan);
    }
    Ok(set_plan("change", after))
}

fn set_plan(verb: &str, after: AccountPlan) -> Plan {
    let mut plan = Plan::new(format!("plan {verb} {}", after.name));
    plan.remark(AccountRemark::PlanAllows { plan: after.name.clone(), limits: after.limits });
    plan.set.inventory(InventoryChange::SetPlan(after));
    plan
}

/// Decides that a plan goes, which only happens while no account has it.
pub fn remove_plan(
    name: &AccountName,
    present: Option<&AccountPlan>,
    holders: Vec<AccountName>,
) -> Result<Plan, AccountRefusal> {
    let present = present.ok_or_else(|| AccountRefusal::UnknownPlan(name.clone()))?;
    if !holders.is_empty() {
        return Err(AccountRefusal::PlanInUse { plan: name.clone(), holders });
    }
    let mut plan = Plan::new(format!("plan remove {name}"));
    plan.remark(AccountRemark::PlanRemoved { plan: name.clone() });
    plan.set.inventory(InventoryChange::RemovePlan(present.clone()));
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> AccountName {
        AccountName::parse(text).unwrap()
    }

    fn limits_of(plan: &Plan) -> Limits {
        match plan.set.inventory_changes().next() {
            Some(InventoryChange::SetPlan(after)) => after.limits,
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_plan_begins_like_another_one_and_what_is_named_is_its_own() {
        let limits = Limits { addon_domains: Some(3), redirects: Some(9), ..Limits::default() };
        let small = AccountPlan { name: name("small"), limits };
        let wishes = LimitWishes { addon_domains: Some(Some(5)), redirects: Some(None), ..LimitWishes::default() };
        let large = name("large");
        let plan = add_plan(&large, None, Some((&small.name, Some(&small))), &wishes).unwrap();
        assert_eq!(limits_of(&plan), Limits { addon_domains: Some(5), ..Limits::default() });
        let plan = add_plan(&large, None, None, &LimitWishes::default()).unwrap();
        assert_eq!(limits_of(&plan), Limits::default());
        let unknown = add_plan(&large, None, Some((&small.name, None)), &wishes);
        assert_eq!(unknown, Err(AccountRefusal::UnknownPlan(name("small"))));
        let exists = add_plan(&small.name, Some(&small), None, &wishes);
        assert_eq!(exists, Err(AccountRefusal::PlanExists(name("small"))));
        let plan = change_plan(&small.name, Some(&small), &wishes).unwrap();
        assert_eq!(limits_of(&plan), Limits { addon_domains: Some(5), ..Limits::default() });
        assert!(change_plan(&small.name, Some(&small), &LimitWishes::default()).unwrap().is_empty());
        assert_eq!(change_plan(&large, None, &wishes), Err(AccountRefusal::UnknownPlan(large)));
    }

    #[test]
    fn a_plan_that_somebody_has_stays() {
        let small = AccountPlan { name: name("small"), limits: Limits::default() };
        let refused = remove_plan(&small.name, Some(&small), vec![name("bakery")]).unwrap_err();
        assert_eq!(refused, AccountRefusal::PlanInUse { plan: name("small"), holders: vec![name("bakery")] });
        assert_eq!(remove_plan(&small.name, Some(&small), vec![]).unwrap().set.changes.len(), 1);
        assert_eq!(remove_plan(&small.name, None, vec![]), Err(AccountRefusal::UnknownPlan(name("small"))));
    }
}
