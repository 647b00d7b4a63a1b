//! A listing: what is to be in a harbor, in one file. Plans, accounts, nameserver sets, sites with what they show, redirects and
//! records, in the words of the commands.
//!
//! The form alone is here. `compare` says what has to be done so that a harbor has it, `written` makes one of a harbor.
//! Reading files and deciding the single steps is for others.

mod compare;
mod csv;
mod records;
mod redirects;
mod sets;
mod sites;
#[cfg(test)]
mod tests;
mod written;

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::account::{AccountName, Limits};
use crate::name::Host;
use crate::redirect::Source;
use crate::site::{HttpsPolicy, Overridable, TlsFloor, WwwPolicy};

pub use self::csv::CsvError;
pub use compare::{Compared, Counts, ListingError, Present, Step, compare};
pub use records::{MeantRecord, add_listed, records_by_zone};
pub use written::listing_of;

/// The whole file. What a table does not name stays as it is, unless `whole` names the table.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Listing {
    /// The tables that are the whole truth: what of these the file does not name goes.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub whole: Vec<Whole>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub plans: BTreeMap<AccountName, ListedPlan>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub accounts: BTreeMap<AccountName, ListedAccount>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub nameserver_sets: BTreeMap<AccountName, ListedSet>,
    /// By main hostname.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub sites: BTreeMap<Host, ListedSite>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub redirects: Vec<ListedRedirect>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub records: Vec<ListedRecord>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Whole {
    /// Sites and further names of sites. Their zones stay.
    Sites,
    Redirects,
}

impl Listing {
    /// The names whose sites it has to do with; `None`: with all sites, since it is the whole truth about some of it.
    pub fn names(&self) -> Option<BTreeSet<Host>> {
        let of_sites = self.sites.iter().flat_map(|(main, site)| std::iter::once(main).chain(&site.names)).cloned();
        // What cannot be understood is told where it is compared.
        let sources = self.redirects.iter().filter_map(|one| Source::parse(&one.from, false).ok());
        self.whole.is_empty().then(|| of_sites.chain(sources.map(|source| source.host)).collect())
    }
}

/// What accounts of a plan may have; what is not named is not limited.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct ListedPlan {
    #[serde(skip_serializing_if = "Option::is_none")]
    pub addon_domains: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub subdomains: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alias_domains: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub redirects: Option<u32>,
    /// MiB.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub disk: Option<u32>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scripts: Option<u32>,
    /// MiB.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub script_memory: Option<u32>,
}

/// An account. What is not named is as usual for a new one, and stays for one that is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ListedAccount {
    pub email: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home: Option<PathBuf>,
    /// Whether a new account's home may be there already.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub existing: bool,
    /// It has to be there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub system_user: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub plan: Option<AccountName>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub nameserver_set: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reseller: Option<AccountName>,
}

/// A nameserver set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ListedSet {
    /// As `nameserver add` takes them: `NAME`, or `NAME=ADDRESS,ADDRESS`; the primary first.
    pub nameservers: Vec<String>,
    /// The account that it is for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<AccountName>,
    /// For how many domains it is made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub capacity: Option<u32>,
}

/// A site. What is not named is as usual for a new one, and stays for one that is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ListedSite {
    pub account: AccountName,
    /// Alias domains and other names that show it, beside the twins of its names.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<Host>,
    /// Relative to the account's home, or absolute inside it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub document_root: Option<PathBuf>,
    /// Whether a new site's folder may be there already.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub existing: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub www: Option<WwwPolicy>,
    /// Who keeps the zones of names that are attached by this file.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<ListedZone>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub https: Option<HttpsPolicy>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tls: Option<ListedTls>,
    /// Seconds; 0 for off.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hsts: Option<u32>,
    /// As `--serve` takes it; all parts of the site.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub serve: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub index: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub listing: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub single_page: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub missing_page: Option<String>,
    /// Endings with commas between, and for how many seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache: Option<BTreeMap<String, u32>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub front_script: Option<bool>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub no_scripts: Option<Vec<String>>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub htaccess: Option<Vec<Overridable>>,
    /// Bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub body_limit: Option<u64>,
    /// Seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time_limit: Option<u32>,
}

impl ListedSite {
    /// One with everything as usual.
    pub fn of(account: AccountName) -> Self {
        Self {
            account,
            names: vec![],
            document_root: None,
            existing: false,
            www: None,
            zone: None,
            https: None,
            tls: None,
            hsts: None,
            serve: None,
            index: None,
            listing: None,
            single_page: None,
            missing_page: None,
            cache: None,
            front_script: None,
            no_scripts: None,
            htaccess: None,
            body_limit: None,
            time_limit: None,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ListedZone {
    Here,
    Elsewhere,
}

/// The oldest version that is offered, as `--tls` takes it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum ListedTls {
    #[serde(rename = "1.2")]
    Tls12,
    #[serde(rename = "1.3")]
    Tls13,
}

impl From<ListedTls> for TlsFloor {
    fn from(listed: ListedTls) -> Self {
        match listed {
            ListedTls::Tls12 => TlsFloor::Tls12,
            ListedTls::Tls13 => TlsFloor::Tls13,
        }
    }
}

impl From<TlsFloor> for ListedTls {
    fn from(floor: TlsFloor) -> Self {
        match floor {
            TlsFloor::Tls12 => ListedTls::Tls12,
            TlsFloor::Tls13 => ListedTls::Tls13,
        }
    }
}

/// A redirect, as `redirect add` takes it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ListedRedirect {
    pub from: String,
    pub to: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub status: Option<u16>,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub prefix: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub keep_path: bool,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub with_twin: bool,
    /// Its last day (UTC).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<jiff::civil::Date>,
}

/// A record, as `record add` takes it. One of that name, type and data that already exists stays, whatever its TTL.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct ListedRecord {
    pub zone: crate::name::Hostname,
    pub owner: String,
    #[serde(rename = "type")]
    pub record_type: String,
    pub data: String,
    /// Seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ttl: Option<u32>,
}

impl From<ListedPlan> for Limits {
    fn from(listed: ListedPlan) -> Self {
        let ListedPlan { addon_domains, subdomains, alias_domains, redirects, disk, scripts, script_memory } = listed;
        Self { addon_domains, subdomains, alias_domains, redirects, disk, scripts, script_memory }
    }
}

impl From<Limits> for ListedPlan {
    fn from(limits: Limits) -> Self {
        let Limits { addon_domains, subdomains, alias_domains, redirects, disk, scripts, script_memory } = limits;
        Self { addon_domains, subdomains, alias_domains, redirects, disk, scripts, script_memory }
    }
}
