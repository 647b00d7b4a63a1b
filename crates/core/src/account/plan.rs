//! Plans: how much an account may have. A limit that would be passed refuses, with the count and what raises it.

use serde::{Deserialize, Serialize};

use super::AccountName;

/// A plan, by name; the same letters as in an account's name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AccountPlan {
    pub name: AccountName,
    pub limits: Limits,
}

/// `None`: no limit; 0: none allowed.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct Limits {
    pub addon_domains: Option<u32>,
    pub subdomains: Option<u32>,
    pub alias_domains: Option<u32>,
    pub redirects: Option<u32>,
    /// In MiB; reported against, never enforced.
    pub disk: Option<u32>,
    /// How many scripts of PHP run at once; what harbor.toml says for the version when not limited.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scripts: Option<u32>,
    /// What one of them may have, in MiB.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub script_memory: Option<u32>,
}

/// What an account has.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Usage {
    pub addon_domains: u32,
    pub subdomains: u32,
    pub alias_domains: u32,
    pub redirects: u32,
}

/// The things that are counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Counted {
    AddonDomains,
    Subdomains,
    AliasDomains,
    Redirects,
}

impl Counted {
    pub const ALL: [Counted; 4] =
        [Counted::AddonDomains, Counted::Subdomains, Counted::AliasDomains, Counted::Redirects];

    pub fn words(self) -> &'static str {
        match self {
            Counted::AddonDomains => "addon domains",
            Counted::Subdomains => "subdomains",
            Counted::AliasDomains => "alias domains",
            Counted::Redirects => "redirects",
        }
    }

    /// The option that sets its limit.
    pub fn option(self) -> String {
        format!("--{}", self.words().replace(' ', "-"))
    }
}

impl Limits {
    pub fn of(&self, counted: Counted) -> Option<u32> {
        match counted {
            Counted::AddonDomains => self.addon_domains,
            Counted::Subdomains => self.subdomains,
            Counted::AliasDomains => self.alias_domains,
            Counted::Redirects => self.redirects,
        }
    }
}

impl Usage {
    pub fn of(&self, counted: Counted) -> u32 {
        match counted {
            Counted::AddonDomains => self.addon_domains,
            Counted::Subdomains => self.subdomains,
            Counted::AliasDomains => self.alias_domains,
            Counted::Redirects => self.redirects,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the account {account} has {present} {}, and its plan `{plan}` allows {allowed}", .counted.words())]
pub struct LimitReached {
    pub account: AccountName,
    pub plan: AccountName,
    pub counted: Counted,
    pub present: u32,
    pub allowed: u32,
}

/// Whether the account may have so many more.
pub fn check_limit(
    account: &AccountName,
    plan: &AccountPlan,
    usage: &Usage,
    counted: Counted,
    more: u32,
) -> Result<(), LimitReached> {
    let present = usage.of(counted);
    match plan.limits.of(counted) {
        Some(allowed) if present.saturating_add(more) > allowed => {
            Err(LimitReached { account: account.clone(), plan: plan.name.clone(), counted, present, allowed })
        }
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_limit_refuses_what_would_pass_it_and_says_by_how_much() {
        let name = |text: &str| AccountName::parse(text).unwrap();
        let limits = Limits { addon_domains: Some(2), alias_domains: Some(0), ..Limits::default() };
        let plan = AccountPlan { name: name("small"), limits };
        let usage = Usage { addon_domains: 1, ..Usage::default() };
        let check = |counted, more| check_limit(&name("bakery"), &plan, &usage, counted, more);
        assert!(check(Counted::AddonDomains, 1).is_ok() && check(Counted::Subdomains, 1_000_000).is_ok());
        let refused = check(Counted::AddonDomains, 2).unwrap_err().to_string();
        assert_eq!(refused, "the account bakery has 1 addon domains, and its plan `small` allows 2");
        assert!(check(Counted::AliasDomains, 1).is_err(), "0: none allowed");
        assert_eq!(Counted::AliasDomains.option(), "--alias-domains");
    }
}
