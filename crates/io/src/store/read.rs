//! Reading the inventory.

use std::path::{Path, PathBuf};

use brightharbor_core::name::{Hostname, is_registrable};
use brightharbor_core::site::{
    Account, AccountName, Certificate, CertificateFiles, Plan, Site, SiteKind, Usage, Waiting, Zone,
};
use brightharbor_core::zone::Pattern;
use rusqlite::{OptionalExtension, Row};

use super::{Store, StoreError, from_word};

const SITE: &str = "SELECT main, account, document_root, kind, https, certificate_folder, rules FROM site";

impl Store {
    pub fn account(&self, name: &AccountName) -> Result<Option<Account>, StoreError> {
        let mut query = self
            .connection
            .prepare_cached("SELECT name, email, home, system_user, plan FROM account WHERE name = $1")?;
        let row = query.query_row([name.as_str()], account_row).optional()?;
        row.map(account).transpose()
    }

    pub fn accounts(&self) -> Result<Vec<Account>, StoreError> {
        let mut query =
            self.connection.prepare_cached("SELECT name, email, home, system_user, plan FROM account ORDER BY name")?;
        let rows = query.query_map([], account_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(account).collect()
    }

    pub fn plan(&self, name: &AccountName) -> Result<Option<Plan>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT limits FROM plan WHERE name = $1")?;
        let limits = query.query_row([name.as_str()], |row| row.get::<_, String>(0)).optional()?;
        limits.map(|limits| plan(name.clone(), &limits)).transpose()
    }

    pub fn plans(&self) -> Result<Vec<Plan>, StoreError> {
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
            }
        }
        let mut further = self.connection.prepare_cached(
            "SELECT hostname.name FROM hostname JOIN site ON hostname.site = site.main
             WHERE site.account = $1 AND hostname.position > 0",
        )?;
        for name in further.query_map([account.as_str()], |row| row.get::<_, String>(0))? {
            usage.parked_domains += u32::from(is_registrable(&hostname(&name?)?));
        }
        let sites = self.sites_with_redirects(Some(account))?;
        usage.redirects = sites.iter().map(|site| site.rules.redirects.len() as u32).sum();
        Ok(usage)
    }

    /// How many sites an account has.
    pub fn count_sites(&self, account: &AccountName) -> Result<u64, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT count(*) FROM site WHERE account = $1")?;
        Ok(query.query_row([account.as_str()], |row| row.get::<_, i64>(0))?.max(0) as u64)
    }

    /// The site that a hostname belongs to.
    pub fn site_of(&self, hostname: &Hostname) -> Result<Option<Site>, StoreError> {
        let mut query = self
            .connection
            .prepare_cached(&format!("{SITE} WHERE main = (SELECT site FROM hostname WHERE name = $1)"))?;
        let row = query.query_row([hostname.as_str()], site_row).optional()?;
        row.map(|row| self.site(row)).transpose()
    }

    /// All sites, by main hostname; of one account where one is given.
    pub fn sites(&self, of: Option<&AccountName>) -> Result<Vec<Site>, StoreError> {
        let mut query =
            self.connection.prepare_cached(&format!("{SITE} WHERE $1 IS NULL OR account = $1 ORDER BY main"))?;
        let rows = query.query_map([of.map(AccountName::as_str)], site_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(|row| self.site(row)).collect()
    }

    /// A site whose document root is the given one, or lies above or below it. By the index, whatever the number.
    pub fn site_sharing(&self, root: &Path) -> Result<Option<Hostname>, StoreError> {
        let mut exactly = self.connection.prepare_cached("SELECT main FROM site WHERE document_root = $1")?;
        for above in root.ancestors() {
            let found = exactly.query_row([above.to_string_lossy()], |row| row.get::<_, String>(0)).optional()?;
            if let Some(main) = found {
                return Ok(Some(hostname(&main)?));
            }
        }
        let mut below = self
            .connection
            .prepare_cached("SELECT main FROM site WHERE document_root > $1 AND document_root < $2 LIMIT 1")?;
        let (from, to) = (format!("{}/", root.display()), format!("{}0", root.display()));
        let found = below.query_row([from, to], |row| row.get::<_, String>(0)).optional()?;
        found.map(|main| hostname(&main)).transpose()
    }

    /// The first of many names that is attached, or is that of a zone. One statement, whatever their number.
    pub fn first_known(&self, names: impl Iterator<Item = Hostname>) -> Result<Option<Hostname>, StoreError> {
        let names = serde_json::Value::from_iter(names.map(|name| name.to_string())).to_string();
        let mut query = self.connection.prepare_cached(
            "SELECT value FROM json_each($1) WHERE value IN (SELECT name FROM hostname WHERE name = value)
             OR value IN (SELECT name FROM zone WHERE name = value) LIMIT 1",
        )?;
        let found = query.query_row([names], |row| row.get::<_, String>(0)).optional()?;
        found.map(|name| hostname(&name)).transpose()
    }

    /// All attached hostnames, by name.
    pub fn hostnames(&self) -> Result<Vec<Hostname>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT name FROM hostname ORDER BY name")?;
        let names = query.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
        names.iter().map(|name| hostname(name)).collect()
    }

    /// The sites that have redirects, by main hostname; of one account where one is given.
    pub fn sites_with_redirects(&self, of: Option<&AccountName>) -> Result<Vec<Site>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!(
            "{SITE} WHERE ($1 IS NULL OR account = $1) AND rules LIKE '%\"redirects\":[{{%' ORDER BY main"
        ))?;
        let rows = query.query_map([of.map(AccountName::as_str)], site_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(|row| self.site(row)).collect()
    }

    fn site(&self, row: SiteRow) -> Result<Site, StoreError> {
        let mut query =
            self.connection.prepare_cached("SELECT name FROM hostname WHERE site = $1 ORDER BY position")?;
        let names = query.query_map([&row.main], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
        let hostnames = names.iter().map(|name| hostname(name)).collect::<Result<Vec<_>, _>>()?;
        if hostnames.is_empty() {
            return Err(StoreError::Value(format!("the site {} has no hostname", row.main)));
        }
        Ok(Site {
            account: from_word(&row.account)?,
            hostnames,
            document_root: row.document_root.into(),
            kind: from_word(&row.kind)?,
            https: from_word(&row.https)?,
            certificate: row.certificate_folder.map(|folder| CertificateFiles { folder: folder.into() }),
            rules: serde_json::from_str(&row.rules).map_err(|error| StoreError::Value(format!("rules: {error}")))?,
        })
    }

    pub fn zone(&self, name: &Hostname) -> Result<Option<Zone>, StoreError> {
        Ok(self.zones_where("WHERE name = $1", &[&name.as_str()])?.pop())
    }

    /// All zones, by name.
    pub fn zones(&self) -> Result<Vec<Zone>, StoreError> {
        self.zones_where("ORDER BY name", &[])
    }

    fn zones_where(&self, clause: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<Zone>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!(
            "SELECT name, account, home, primary_server, nameserver_set, pattern FROM zone {clause}"
        ))?;
        let rows = query
            .query_map(values, |row| {
                let words: [String; 3] = [row.get(0)?, row.get(1)?, row.get(2)?];
                let more: [Option<String>; 3] = [row.get(3)?, row.get(4)?, row.get(5)?];
                Ok((words, more))
            })?
            .collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|([name, account, home], [primary, nameserver_set, pattern])| {
                let (name, account, home) = (hostname(&name)?, from_word(&account)?, from_word(&home)?);
                Ok(Zone { name, account, home, primary, nameserver_set, pattern })
            })
            .collect()
    }

    /// The pattern with that key.
    pub fn pattern(&self, key: &str) -> Result<Option<Pattern>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT value FROM pattern WHERE key = $1")?;
        let value = query.query_row([key], |row| row.get::<_, String>(0)).optional()?;
        value.map(|value| read_pattern(&value)).transpose()
    }

    /// All patterns that zones were ever made by.
    pub fn patterns(&self) -> Result<Vec<Pattern>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT value FROM pattern ORDER BY key")?;
        let values = query.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
        values.iter().map(|value| read_pattern(value)).collect()
    }

    /// The nearest zone that holds the hostname: its own or that of an ancestor.
    pub fn enclosing_zone(&self, name: &Hostname) -> Result<Option<Zone>, StoreError> {
        for candidate in std::iter::once(name.clone()).chain(name.ancestors()) {
            if let Some(zone) = self.zone(&candidate)? {
                return Ok(Some(zone));
            }
        }
        Ok(None)
    }

    pub fn certificate_of(&self, site: &Hostname) -> Result<Option<Certificate>, StoreError> {
        Ok(self.certificates_where("WHERE site = $1", &[&site.as_str()])?.pop())
    }

    /// The certificates of all sites, by main hostname.
    pub fn all_certificates(&self) -> Result<Vec<Certificate>, StoreError> {
        self.certificates_where("ORDER BY site", &[])
    }

    fn certificates_where(
        &self,
        clause: &str,
        values: &[&dyn rusqlite::ToSql],
    ) -> Result<Vec<Certificate>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!(
            "SELECT site, names, folder, not_before, not_after, state FROM certificate {clause}"
        ))?;
        let text = |row: &Row<'_>, column| row.get::<_, String>(column);
        let rows = query
            .query_map(values, |row| {
                Ok([text(row, 0)?, text(row, 1)?, text(row, 2)?, text(row, 3)?, text(row, 4)?, text(row, 5)?])
            })?
            .collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|[site, names, folder, not_before, not_after, state]| {
                Ok(Certificate {
                    site: hostname(&site)?,
                    names: serde_json::from_str(&names).map_err(|error| StoreError::Value(error.to_string()))?,
                    files: CertificateFiles { folder: PathBuf::from(folder) },
                    not_before: from_word(&not_before)?,
                    not_after: from_word(&not_after)?,
                    state: from_word(&state)?,
                })
            })
            .collect()
    }

    pub fn waiting_of(&self, site: &Hostname) -> Result<Option<Waiting>, StoreError> {
        Ok(self.waiting_where("WHERE site = $1", &[&site.as_str()])?.pop())
    }

    /// Everything that waits, the oldest first.
    pub fn all_waiting(&self) -> Result<Vec<Waiting>, StoreError> {
        self.waiting_where("ORDER BY since, site", &[])
    }

    fn waiting_where(&self, clause: &str, values: &[&dyn rusqlite::ToSql]) -> Result<Vec<Waiting>, StoreError> {
        let mut query =
            self.connection.prepare_cached(&format!("SELECT site, since, not_before, reason FROM waiting {clause}"))?;
        let rows = query
            .query_map(values, |row| {
                Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, Option<String>>(2)?, row.get(3)?))
            })?
            .collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|(site, since, not_before, reason)| {
                Ok(Waiting {
                    site: hostname(&site)?,
                    since: from_word(&since)?,
                    not_before: not_before.as_deref().map(from_word).transpose()?,
                    reason,
                })
            })
            .collect()
    }
}

struct SiteRow {
    main: String,
    account: String,
    document_root: String,
    kind: String,
    https: String,
    certificate_folder: Option<String>,
    rules: String,
}

fn site_row(row: &Row<'_>) -> rusqlite::Result<SiteRow> {
    Ok(SiteRow {
        main: row.get(0)?,
        account: row.get(1)?,
        document_root: row.get(2)?,
        kind: row.get(3)?,
        https: row.get(4)?,
        certificate_folder: row.get(5)?,
        rules: row.get(6)?,
    })
}

type AccountRow = (String, String, String, Option<String>, Option<String>);

fn account_row(row: &Row<'_>) -> rusqlite::Result<AccountRow> {
    Ok((row.get(0)?, row.get(1)?, row.get(2)?, row.get(3)?, row.get(4)?))
}

fn account((name, email, home, system_user, plan): AccountRow) -> Result<Account, StoreError> {
    let plan = plan.as_deref().map(from_word).transpose()?;
    Ok(Account { name: from_word(&name)?, email, home: home.into(), system_user, plan })
}

fn hostname(text: &str) -> Result<Hostname, StoreError> {
    Hostname::parse(text).map_err(|error| StoreError::Value(error.to_string()))
}

fn read_pattern(value: &str) -> Result<Pattern, StoreError> {
    serde_json::from_str(value).map_err(|error| StoreError::Value(format!("a pattern: {error}")))
}

fn plan(name: AccountName, limits: &str) -> Result<Plan, StoreError> {
    let limits = serde_json::from_str(limits).map_err(|error| StoreError::Value(format!("a plan: {error}")))?;
    Ok(Plan { name, limits })
}
