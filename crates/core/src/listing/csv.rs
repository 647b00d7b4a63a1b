//! Hostnames in a table with commas between: a hostname and an account in each line, under a line with the names of the columns.

use std::collections::BTreeMap;

use super::{ListedSite, ListedZone, Listing};
use crate::account::AccountName;
use crate::name::Host;
use crate::site::WwwPolicy;

/// What is wrong with a line, counted from 1.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CsvError {
    pub line: u64,
    pub reason: String,
}

const COLUMNS: [&str; 6] = ["hostname", "account", "same-as", "document-root", "www", "zone"];

impl Listing {
    /// Reads such a table (RFC 4180). `hostname` and `account` are needed; `same-as`, `document-root`, `www` and `zone` are as
    /// the options of `attach`.
    ///
    /// ```
    /// use brightharbor_core::listing::Listing;
    /// let listing = Listing::from_csv("hostname,account\ngullrock.example,boatyard\n").unwrap();
    /// assert_eq!(listing.sites.len(), 1);
    /// assert_eq!(Listing::from_csv("hostname,account\ngullrock\n").unwrap_err().line, 2);
    /// ```
    pub fn from_csv(text: &str) -> Result<Self, CsvError> {
        let mut reader =
            csv::ReaderBuilder::new().trim(csv::Trim::All).comment(Some(b'#')).from_reader(text.as_bytes());
        let headings = reader.headers().map_err(|error| told(&error, 1))?.clone();
        let wrong = |line, reason: String| CsvError { line, reason };
        if let Some(unknown) = headings.iter().find(|heading| !COLUMNS.contains(heading)) {
            return Err(wrong(1, format!("there is no column `{unknown}`: use {}", COLUMNS.join(", "))));
        }
        if let Some(missing) = COLUMNS[..2].iter().find(|name| !headings.iter().any(|heading| heading == **name)) {
            return Err(wrong(1, format!("the column `{missing}` is missing")));
        }
        let mut listing = Listing::default();
        let mut shown: Vec<(u64, Host, Host)> = Vec::new();
        for row in reader.records() {
            let row = row.map_err(|error| told(&error, 1))?;
            let line = row.position().map_or(1, csv::Position::line);
            let cells: BTreeMap<&str, &str> =
                headings.iter().zip(row.iter()).filter(|(_, cell)| !cell.is_empty()).collect();
            let cell = |name: &str| cells.get(name).copied();
            let needed = |name: &str| cell(name).ok_or_else(|| wrong(line, format!("no {name} is given")));
            let host = |typed: &str| Host::parse(typed).map_err(|error| wrong(line, error.to_string()));
            let hostname = host(needed("hostname")?)?;
            if let Some(other) = cell("same-as") {
                shown.push((line, hostname, host(other)?));
                continue;
            }
            let account = AccountName::parse(needed("account")?).map_err(|error| wrong(line, error.to_string()))?;
            let site = ListedSite {
                document_root: cell("document-root").map(Into::into),
                www: cell("www").map(www).transpose().map_err(|reason| wrong(line, reason))?,
                zone: cell("zone").map(zone).transpose().map_err(|reason| wrong(line, reason))?,
                ..ListedSite::of(account)
            };
            if listing.sites.insert(hostname.clone(), site).is_some() {
                return Err(wrong(line, format!("{hostname} is listed twice")));
            }
        }
        for (line, hostname, other) in shown {
            let site = listing.sites.get_mut(&other);
            site.ok_or_else(|| wrong(line, format!("{other} is not in the list itself")))?.names.push(hostname);
        }
        Ok(listing)
    }
}

fn told(error: &csv::Error, otherwise: u64) -> CsvError {
    let line = error.position().map_or(otherwise, csv::Position::line);
    let reason = match error.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
            format!("{len} values stand in a line, where there are {expected_len} columns")
        }
        _ => error.to_string(),
    };
    CsvError { line, reason }
}

fn www(typed: &str) -> Result<WwwPolicy, String> {
    match typed {
        "also" => Ok(WwwPolicy::Also),
        "to-bare" => Ok(WwwPolicy::ToBare),
        "to-www" => Ok(WwwPolicy::ToWww),
        "none" => Ok(WwwPolicy::None),
        other => Err(format!("www is also, to-bare, to-www or none, and not `{other}`")),
    }
}

fn zone(typed: &str) -> Result<ListedZone, String> {
    match typed {
        "here" => Ok(ListedZone::Here),
        "elsewhere" => Ok(ListedZone::Elsewhere),
        other => Err(format!("zone is here or elsewhere, and not `{other}`")),
    }
}
