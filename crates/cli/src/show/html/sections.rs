//! What stands on a page, from facts: what does not work first, then hostnames, certificates, zones, redirects, accounts. A
//! customer's page has what is theirs, and other words for whose turn it is.

use std::collections::HashMap;

use brightharbor_core::account::{Account, AccountName, AccountPlan, Usage};
use brightharbor_core::certificate::Certificate;
use brightharbor_core::redirect::Redirect;
use brightharbor_core::site::Site;
use brightharbor_core::survey::{StoppedSince, Survey};
use jiff::Timestamp;
use serde::Serialize;

use super::calendar::{Calendar, calendar};
use super::graph::{Graph, graph};
use super::rows::{AccountRow, BROKEN, CertificateRow, HostRow, RedirectRow, Table, WAITS, WORKS, ZoneRow, table};
use super::stops::{Stop, stops};
use crate::zone_states::ZoneState;

/// Everything that a report is made of.
pub struct Facts {
    pub made_at: Timestamp,
    /// Whether the links were walked.
    pub walked: bool,
    pub surveys: Vec<Survey>,
    pub since: StoppedSince,
    pub sites: Vec<Site>,
    pub certificates: Vec<Certificate>,
    pub zones: Vec<ZoneState>,
    pub owners: Vec<Owner>,
}

/// An account with what it may have and has.
pub struct Owner {
    pub account: Account,
    pub plan: Option<AccountPlan>,
    pub usage: Usage,
}

/// The facts by name, made once for all pages.
pub(super) struct Index<'a> {
    facts: &'a Facts,
    surveys: HashMap<&'a str, &'a Survey>,
    certificates: HashMap<&'a str, &'a Certificate>,
    by_account: HashMap<&'a AccountName, Theirs<'a>>,
}

#[derive(Default)]
struct Theirs<'a> {
    sites: Vec<&'a Site>,
    zones: Vec<&'a ZoneState>,
}

impl<'a> Index<'a> {
    pub fn of(facts: &'a Facts) -> Self {
        let mut by_account: HashMap<&AccountName, Theirs<'_>> = HashMap::new();
        facts.sites.iter().for_each(|site| by_account.entry(&site.account).or_default().sites.push(site));
        facts.zones.iter().for_each(|state| by_account.entry(&state.zone.account).or_default().zones.push(state));
        Self {
            facts,
            surveys: facts.surveys.iter().map(|survey| (survey.hostname.as_str(), survey)).collect(),
            certificates: facts.certificates.iter().map(|one| (one.site.as_str(), one)).collect(),
            by_account,
        }
    }

    fn theirs(&self, owner: Option<&Owner>) -> Theirs<'a> {
        match owner {
            None => Theirs { sites: self.facts.sites.iter().collect(), zones: self.facts.zones.iter().collect() },
            Some(owner) => match self.by_account.get(&owner.account.name) {
                Some(Theirs { sites, zones }) => Theirs { sites: sites.clone(), zones: zones.clone() },
                None => Theirs::default(),
            },
        }
    }
}

#[derive(Serialize)]
pub(super) struct Sections {
    title: String,
    made_at: String,
    customer: bool,
    walked: bool,
    counts: Counts,
    stops: Vec<Stop>,
    hosts: Table<HostRow>,
    accounts_of_hosts: Vec<String>,
    links: Vec<&'static str>,
    calendar: Option<Calendar>,
    certificates: Table<CertificateRow>,
    zones: Table<ZoneRow>,
    graph: Option<Graph>,
    redirects: Table<RedirectRow>,
    accounts: Table<AccountRow>,
}

#[derive(Serialize)]
struct Counts {
    works: usize,
    waits: usize,
    broken: usize,
    ending: usize,
    behind: usize,
}

/// For one owner, or for whoever has the harbor.
pub(super) fn sections(index: &Index<'_>, owner: Option<&Owner>) -> Sections {
    let (facts, now) = (index.facts, index.facts.made_at);
    let Theirs { sites, zones } = index.theirs(owner);
    let mut certificates: Vec<(&Site, &Certificate)> =
        sites.iter().filter_map(|site| Some((*site, *index.certificates.get(site.main().as_str())?))).collect();
    certificates.sort_by_key(|(_, one)| one.not_after);
    let all: Vec<&Certificate> = certificates.iter().map(|(_, one)| *one).collect();
    let seen = sites.iter().flat_map(|site| {
        let surveys = site.hostnames.iter().filter_map(|host| index.surveys.get(host.as_str()));
        surveys.map(move |survey| (*site, *survey))
    });
    let hosts = host_rows(&sites, index);
    let count = |state: &str| hosts.iter().filter(|host| host.state == state).count();
    let redirects: Vec<&Redirect> = sites.iter().flat_map(|site| &site.rules.redirects).collect();
    let owners: Vec<&Owner> = owner.map_or_else(|| facts.owners.iter().collect(), |owner| vec![owner]);
    Sections {
        title: owner.map_or("Harbor".into(), |owner| format!("Account {}", owner.account.name)),
        made_at: now.strftime("%Y-%m-%d %H:%M UTC").to_string(),
        customer: owner.is_some(),
        walked: facts.walked,
        counts: Counts {
            works: count(WORKS),
            waits: count(WAITS),
            broken: count(BROKEN),
            ending: all.iter().filter(|one| one.runs_out_soon(now)).count(),
            behind: zones.iter().filter(|zone| !zone.out_of_step().is_empty()).count(),
        },
        stops: stops(seen, &facts.since, owner.is_some()),
        accounts_of_hosts: distinct(hosts.iter().map(|host| host.account.clone())),
        links: distinct(hosts.iter().map(|host| host.link).filter(|link| !link.is_empty())),
        hosts: table(hosts, HostRow::cells),
        calendar: calendar(&all, now),
        certificates: table(
            certificates.iter().map(|(site, one)| CertificateRow::of(one, site.account.as_str(), now)).collect(),
            CertificateRow::cells,
        ),
        zones: table(zones.into_iter().map(ZoneRow::of).collect(), ZoneRow::cells),
        graph: graph(&redirects),
        redirects: table(redirects.into_iter().map(RedirectRow::of).collect(), RedirectRow::cells),
        accounts: table(owners.into_iter().map(AccountRow::of).collect(), AccountRow::cells),
    }
}

/// Each once, in their order.
fn distinct<T: Ord>(items: impl Iterator<Item = T>) -> Vec<T> {
    items.collect::<std::collections::BTreeSet<T>>().into_iter().collect()
}

/// What is broken comes first: of a long table, the page alone has no more.
fn host_rows(sites: &[&Site], index: &Index<'_>) -> Vec<HostRow> {
    let row = |site: &Site, host: &brightharbor_core::name::Host| {
        let certificate = index.certificates.get(site.main().as_str()).copied();
        HostRow::of(host, site, index.surveys.get(host.as_str()).copied(), certificate)
    };
    let mut rows: Vec<HostRow> =
        sites.iter().flat_map(|site| site.hostnames.iter().map(|host| row(site, host))).collect();
    rows.sort_by_key(|row| [BROKEN, WAITS].iter().position(|state| *state == row.state).unwrap_or(2));
    rows
}
