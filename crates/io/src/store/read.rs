//! Reading the inventory.

use std::collections::HashSet;
use std::path::{Path, PathBuf};

use brightharbor_core::account::{Account, AccountName};
use brightharbor_core::certificate::{Certificate, CertificateFiles, Waiting};
use brightharbor_core::name::{Host, Hostname};
use brightharbor_core::site::{HttpsStates, Site};
use rusqlite::{OptionalExtension, Row};

use super::{Store, StoreError, from_word};

const ACCOUNT: &str = "SELECT name, email, home, system_user, plan, nameserver_set, reseller FROM account";
const SITE: &str = "SELECT main, account, document_root, kind, certificate_folder, rules FROM site";

impl Store {
    pub fn account(&self, name: &AccountName) -> Result<Option<Account>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!("{ACCOUNT} WHERE name = $1"))?;
        let row = query.query_row([name.as_str()], account_row).optional()?;
        row.map(account).transpose()
    }

    pub fn accounts(&self) -> Result<Vec<Account>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!("{ACCOUNT} ORDER BY name"))?;
        let rows = query.query_map([], account_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(account).collect()
    }

    /// Another account than `own` whose home is the folder, or lies above or below it.
    pub fn account_around(
        &self,
        folder: &Path,
        own: Option<&AccountName>,
    ) -> Result<Option<(AccountName, PathBuf)>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT name, home FROM account WHERE (home = $1 OR substr(home, 1, length($1) + 1) = $1 || '/' \
             OR substr($1, 1, length(home) + 1) = home || '/') AND name <> $2 LIMIT 1",
        )?;
        let place = (folder.to_string_lossy(), own.map_or("", AccountName::as_str));
        let row = query.query_row(place, |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?))).optional()?;
        row.map(|(name, home)| Ok((from_word(&name)?, home.into()))).transpose()
    }

    /// How many sites an account has.
    pub fn count_sites(&self, account: &AccountName) -> Result<u64, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT count(*) FROM site WHERE account = $1")?;
        Ok(query.query_row([account.as_str()], |row| row.get::<_, i64>(0))?.max(0) as u64)
    }

    /// Whether there is no site at all.
    pub fn is_without_sites(&self) -> Result<bool, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT NOT EXISTS (SELECT 1 FROM site)")?;
        Ok(query.query_row([], |row| row.get(0))?)
    }

    /// Whether there are sites besides these, and whether one of those has a certificate. No more is read than tells.
    pub fn others_than(&self, these: &[&Host]) -> Result<(bool, bool), StoreError> {
        let these: HashSet<&str> = these.iter().map(|host| host.as_str()).collect();
        let beside = |query: &str| {
            let mut query = self.connection.prepare_cached(query)?;
            let names = query.query_map([these.len() as i64 + 1], |row| row.get::<_, String>(0))?;
            Ok::<_, StoreError>(names.collect::<Result<Vec<_>, _>>()?.iter().any(|name| !these.contains(name.as_str())))
        };
        Ok((beside("SELECT main FROM site LIMIT $1")?, beside("SELECT site FROM certificate LIMIT $1")?))
    }

    /// The site that a hostname belongs to.
    pub fn site_of(&self, hostname: &Host) -> Result<Option<Site>, StoreError> {
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

    /// How many sites there are.
    pub fn count_all_sites(&self) -> Result<usize, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT count(*) FROM site")?;
        Ok(query.query_row([], |row| row.get::<_, i64>(0))?.max(0) as usize)
    }

    /// Some sites, by main hostname, from a place on.
    pub fn some_sites(&self, from: usize, most: usize) -> Result<Vec<Site>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!("{SITE} ORDER BY main LIMIT $1 OFFSET $2"))?;
        let rows = query.query_map([most as i64, from as i64], site_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(|row| self.site(row)).collect()
    }

    /// A site whose document root is the given one, or lies above or below it. By the index, whatever the number.
    pub fn site_sharing(&self, root: &Path) -> Result<Option<Host>, StoreError> {
        let mut exactly = self.connection.prepare_cached("SELECT main FROM site WHERE document_root = $1")?;
        for above in root.ancestors() {
            let found = exactly.query_row([above.to_string_lossy()], |row| row.get::<_, String>(0)).optional()?;
            if let Some(main) = found {
                return Ok(Some(host(&main)?));
            }
        }
        let mut below = self
            .connection
            .prepare_cached("SELECT main FROM site WHERE document_root > $1 AND document_root < $2 LIMIT 1")?;
        let (from, to) = (format!("{}/", root.display()), format!("{}0", root.display()));
        let found = below.query_row([from, to], |row| row.get::<_, String>(0)).optional()?;
        found.map(|main| host(&main)).transpose()
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
    pub fn hostnames(&self) -> Result<Vec<Host>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT name FROM hostname ORDER BY name")?;
        let names = query.query_map([], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
        names.iter().map(|name| host(name)).collect()
    }

    /// Some of the attached hostnames of a zone: its own name, its `www`, then others below it.
    pub fn hostnames_of_zone(&self, zone: &Hostname, most: usize) -> Result<Vec<Hostname>, StoreError> {
        let mut query = self.connection.prepare_cached("SELECT name FROM hostname WHERE name = $1")?;
        let mut found = Vec::new();
        // By key: the other names of a zone are found through its site, never by reading all names.
        for name in std::iter::once(zone.clone()).chain(zone.with_www()) {
            found.extend(query.query_row([name.as_str()], |row| row.get::<_, String>(0)).optional()?);
        }
        let mut beside = self.connection.prepare_cached(
            "SELECT name FROM hostname WHERE site = (SELECT site FROM hostname WHERE name = $1) ORDER BY position",
        )?;
        let others =
            beside.query_map([zone.as_str()], |row| row.get::<_, String>(0))?.collect::<Result<Vec<_>, _>>()?;
        for name in others {
            if found.len() < most && name.ends_with(&format!(".{zone}")) && !found.contains(&name) {
                found.push(name);
            }
        }
        found.iter().map(|name| hostname(name)).collect()
    }

    /// The attached hostnames that lie below a domain, or are it. Reads all names: for rare decisions.
    pub fn hostnames_within(&self, domain: &Hostname) -> Result<Vec<Hostname>, StoreError> {
        let mut query = self.connection.prepare_cached(
            "SELECT name FROM hostname WHERE name = $1 OR substr(name, -length($1) - 1) = '.' || $1 ORDER BY name",
        )?;
        let names = query.query_map([domain.as_str()], |row| row.get::<_, String>(0))?;
        names.map(|name| hostname(&name?)).collect()
    }

    /// The accounts that were sold by another one.
    pub fn sold_by(&self, reseller: &AccountName) -> Result<Vec<Account>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!("{ACCOUNT} WHERE reseller = $1 ORDER BY name"))?;
        let rows = query.query_map([reseller.as_str()], account_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(account).collect()
    }

    /// The sites that have redirects, by main hostname; of one account where one is given.
    pub fn sites_with_redirects(&self, of: Option<&AccountName>) -> Result<Vec<Site>, StoreError> {
        let mut query = self.connection.prepare_cached(&format!(
            "{SITE} WHERE ($1 IS NULL OR account = $1) AND rules LIKE '%\"redirects\":[{{%' ORDER BY main"
        ))?;
        let rows = query.query_map([of.map(AccountName::as_str)], site_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(|row| self.site(row)).collect()
    }

    /// The sites with something in place that a seller demands, by main hostname.
    pub fn sites_with_demands(&self) -> Result<Vec<Site>, StoreError> {
        let mut query =
            self.connection.prepare_cached(&format!("{SITE} WHERE rules LIKE '%\"demands\":[{{%' ORDER BY main"))?;
        let rows = query.query_map([], site_row)?.collect::<Result<Vec<_>, _>>()?;
        rows.into_iter().map(|row| self.site(row)).collect()
    }

    fn site(&self, row: SiteRow) -> Result<Site, StoreError> {
        let mut query =
            self.connection.prepare_cached("SELECT name, https FROM hostname WHERE site = $1 ORDER BY position")?;
        let names = query
            .query_map([&row.main], |row| Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?)))?
            .collect::<Result<Vec<_>, _>>()?;
        let (mut hostnames, mut https) = (Vec::with_capacity(names.len()), HttpsStates::default());
        for (name, state) in names {
            let name = host(&name)?;
            https.set(&name, from_word(&state)?);
            hostnames.push(name);
        }
        if hostnames.is_empty() {
            return Err(StoreError::Value(format!("the site {} has no hostname", row.main)));
        }
        Ok(Site {
            account: from_word(&row.account)?,
            hostnames,
            document_root: row.document_root.into(),
            kind: from_word(&row.kind)?,
            https,
            certificate: row.certificate_folder.map(|folder| CertificateFiles { folder: folder.into() }),
            rules: serde_json::from_str(&row.rules).map_err(|error| StoreError::Value(format!("rules: {error}")))?,
        })
    }

    pub fn certificate_of(&self, site: &Host) -> Result<Option<Certificate>, StoreError> {
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
            "SELECT site, names, folder, not_before, not_after, state, source, details FROM certificate {clause}"
        ))?;
        let text = |row: &Row<'_>, column| row.get::<_, String>(column);
        let rows = query
            .query_map(values, |row| {
                Ok([
                    text(row, 0)?,
                    text(row, 1)?,
                    text(row, 2)?,
                    text(row, 3)?,
                    text(row, 4)?,
                    text(row, 5)?,
                    text(row, 6)?,
                    text(row, 7)?,
                ])
            })?
            .collect::<Result<Vec<_>, _>>()?;
        rows.into_iter()
            .map(|[site, names, folder, not_before, not_after, state, source, details]| {
                Ok(Certificate {
                    site: host(&site)?,
                    names: serde_json::from_str(&names).map_err(|error| StoreError::Value(error.to_string()))?,
                    files: CertificateFiles { folder: PathBuf::from(folder) },
                    not_before: from_word(&not_before)?,
                    not_after: from_word(&not_after)?,
                    state: from_word(&state)?,
                    source: from_word(&source)?,
                    details: serde_json::from_str(&details).map_err(|error| StoreError::Value(error.to_string()))?,
                })
            })
            .collect()
    }

    pub fn waiting_of(&self, site: &Host) -> Result<Option<Waiting>, StoreError> {
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
                    site: host(&site)?,
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
    certificate_folder: Option<String>,
    rules: String,
}

fn site_row(row: &Row<'_>) -> rusqlite::Result<SiteRow> {
    Ok(SiteRow {
        main: row.get(0)?,
        account: row.get(1)?,
        document_root: row.get(2)?,
        kind: row.get(3)?,
        certificate_folder: row.get(4)?,
        rules: row.get(5)?,
    })
}

struct AccountRow {
    name: String,
    email: String,
    home: String,
    system_user: Option<String>,
    plan: Option<String>,
    nameserver_set: Option<String>,
    reseller: Option<String>,
}

fn account_row(row: &Row<'_>) -> rusqlite::Result<AccountRow> {
    Ok(AccountRow {
        name: row.get(0)?,
        email: row.get(1)?,
        home: row.get(2)?,
        system_user: row.get(3)?,
        plan: row.get(4)?,
        nameserver_set: row.get(5)?,
        reseller: row.get(6)?,
    })
}

fn account(row: AccountRow) -> Result<Account, StoreError> {
    Ok(Account {
        name: from_word(&row.name)?,
        email: row.email,
        home: row.home.into(),
        system_user: row.system_user,
        plan: row.plan.as_deref().map(from_word).transpose()?,
        nameserver_set: row.nameserver_set,
        reseller: row.reseller.as_deref().map(from_word).transpose()?,
    })
}

pub(super) fn host(text: &str) -> Result<Host, StoreError> {
    Host::parse(text).map_err(|error| StoreError::Value(error.to_string()))
}

pub(super) fn hostname(text: &str) -> Result<Hostname, StoreError> {
    Hostname::parse_zone(text).map_err(|error| StoreError::Value(error.to_string()))
}
