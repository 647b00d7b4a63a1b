//! Reading plans, and what accounts have of what plans count.

use brightharbor_core::account::{AccountName, AccountPlan, Usage};
use brightharbor_core::name::{Hostname, is_registrable};
use brightharbor_core::site::SiteKind;
use rusqlite::OptionalExtension;

use super::{Store, StoreError, from_word};

impl Store {
    pub fn plan(&self, name: &AccountName) -> Result<Option<AccountPlan>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT limits FROM plan WHERE name = $1")?;
        let limits = query.query_row([name.as_str()], |row| row.get::<_, String>(0)).optional()?;
        limits.map(|limits| plan(name.clone(), &limits)).transpose()
    }

    pub fn plans(&self) -> Result<Vec<AccountPlan>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT name, limits FROM plan ORDER BY name")?;
        let rows = query.query_map([], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)))?;
        rows.map(|row| row.map_err(StoreError::from).and_then(|(name, limits)| plan(from_word(&name)?, &limits)))
            .collect()
    }

    /// What an account has of everything that plans count.
    pub fn usage(&self, account: &AccountName) -> Result<Usage, StoreError> {
        let mut usage = Usage::default();
        let mut kinds =
            self.connection.prepare_cached("SELECT kind, count(*) FROM site WHERE account = $1 GROUP BY kind")?;
        for row in kinds.query_map([account.as_str()], |row| Ok((row.get::<_, String>(0)?, row.get::<_, u32>(1)?)))? {
            let (kind, count) = row?;
            match from_word::<SiteKind>(&kind)? {
                SiteKind::AddonDomain => usage.addon_domains = count,
                SiteKind::Subdomain => usage.subdomains = count,
                SiteKind::ByAddress => {}
            }
        }
        let mut further = self.connection.prepare_cached(
            "SELECT hostname.name FROM hostname JOIN site ON hostname.site = site.main
             WHERE site.account = $1 AND hostname.position > 0",
        )?;
        for name in further.query_map([account.as_str()], |row| row.get::<_, String>(0))? {
            usage.alias_domains += u32::from(Hostname::parse(&name?).is_ok_and(|name| is_registrable(&name)));
        }
        let sites = self.sites_with_redirects(Some(account))?;
        usage.redirects = sites.iter().map(|site| site.rules.redirects.len() as u32).sum();
        Ok(usage)
    }
}

fn plan(name: AccountName, limits: &str) -> Result<AccountPlan, StoreError> {
    let limits = serde_json::from_str(limits).map_err(|error| StoreError::Value(format!("a plan: {error}")))?;
    Ok(AccountPlan { name, limits })
}
