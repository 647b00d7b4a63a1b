//! The rows of the tables. Of a long table the first rows stand in the page, and all of them as data beside, since a browser
//! takes seconds for a page of tens of thousands of rows.

use brightharbor_core::account::Counted;
use brightharbor_core::certificate::{Certificate, CertificateState};
use brightharbor_core::name::Host;
use brightharbor_core::redirect::Redirect;
use brightharbor_core::site::Site;
use brightharbor_core::survey::{Link, LinkState, Survey};
use brightharbor_core::zone::{Holder, Holding};
use jiff::Timestamp;
use serde::Serialize;
use serde_json::{Value, json};

use super::sections::Owner;
use crate::show::words::{host_words, source_words};
use crate::zone_states::{Contents, ZoneState};

/// Rows that stand in the page; the script shows so many at a time.
pub(super) const MOST_ROWS: usize = 500;

#[derive(Serialize)]
pub(super) struct Table<T> {
    pub rows: Vec<T>,
    pub total: usize,
    /// The cells of all rows as JSON, in a form that ends no element of the page; empty where the rows are all there are.
    pub data: String,
}

/// `cells`: what stands in the columns, as texts.
pub(super) fn table<T>(rows: Vec<T>, cells: impl Fn(&T) -> Value) -> Table<T> {
    let total = rows.len();
    let data = match total > MOST_ROWS {
        true => Value::from(rows.iter().map(cells).collect::<Vec<_>>()).to_string().replace('<', "\\u003c"),
        false => String::new(),
    };
    Table { rows: rows.into_iter().take(MOST_ROWS).collect(), total, data }
}

pub(super) const WORKS: &str = "works";
pub(super) const WAITS: &str = "waits";
pub(super) const BROKEN: &str = "broken";
const UNSEEN: &str = "not looked at";

pub(super) fn state_of(link: Option<&Link>) -> &'static str {
    match link.map(|link| &link.state) {
        None => WORKS,
        Some(LinkState::Waiting(_)) => WAITS,
        Some(_) => BROKEN,
    }
}

#[derive(Serialize)]
pub(super) struct HostRow {
    pub name: String,
    pub account: String,
    pub state: &'static str,
    pub link: &'static str,
    because: String,
    until: String,
}

impl HostRow {
    pub fn of(host: &Host, site: &Site, survey: Option<&Survey>, certificate: Option<&Certificate>) -> Self {
        let open = survey.and_then(Survey::first_open);
        let covering = certificate.filter(|one| one.covers(host));
        Self {
            name: host_words(host),
            account: site.account.to_string(),
            state: survey.map_or(UNSEEN, |_| state_of(open)),
            link: open.map_or("", |link| link.name.word()),
            because: open.map(|link| link.because.clone()).unwrap_or_default(),
            until: covering.map(|one| one.not_after.strftime("%Y-%m-%d").to_string()).unwrap_or_default(),
        }
    }

    pub fn cells(&self) -> Value {
        json!([self.name, self.account, self.state, self.link, self.because, self.until])
    }
}

#[derive(Serialize)]
pub(super) struct CertificateRow {
    site: String,
    account: String,
    names: usize,
    until: String,
    days: i64,
    source: &'static str,
    state: &'static str,
}

impl CertificateRow {
    pub fn of(one: &Certificate, account: &str, now: Timestamp) -> Self {
        Self {
            site: host_words(&one.site),
            account: account.to_string(),
            names: one.names.len() + one.details.wildcards.len(),
            until: one.not_after.strftime("%Y-%m-%d").to_string(),
            days: one.not_after.duration_since(now).as_hours().div_euclid(24),
            source: one.source.words(),
            state: match one.state {
                _ if one.not_after <= now => "expired",
                CertificateState::Revoked => "revoked",
                _ if one.runs_out_soon(now) => "expires soon",
                state => state.word(),
            },
        }
    }

    pub fn cells(&self) -> Value {
        let (names, days) = (self.names.to_string(), self.days.to_string());
        json!([self.site, self.account, names, self.until, days, self.source, self.state])
    }
}

#[derive(Serialize)]
pub(super) struct ZoneRow {
    name: String,
    account: String,
    kept: &'static str,
    serial: String,
    servers: Vec<ServerCell>,
    edited: bool,
}

#[derive(Serialize)]
struct ServerCell {
    name: String,
    words: String,
    in_step: bool,
}

impl ZoneRow {
    pub fn of(state: &ZoneState) -> Self {
        let serial = match &state.contents {
            Contents::Read { serial, .. } | Contents::Remote { serial: Some(serial) } => serial.to_string(),
            Contents::Remote { serial: None } => "not known".into(),
            Contents::Elsewhere => String::new(),
            Contents::Broken(why) => why.clone(),
        };
        let cell = |(holder, holding): &(Holder, Holding)| {
            let in_step = holding.is_in_step();
            let words = if in_step { "in step".into() } else { holding.words() };
            ServerCell { name: holder.name.clone(), words, in_step }
        };
        Self {
            name: host_words(&(&state.zone.name).into()),
            account: state.zone.account.to_string(),
            kept: state.zone.home.words(),
            serial,
            servers: state.asked().map(cell).collect(),
            edited: state.edited,
        }
    }

    pub fn cells(&self) -> Value {
        let servers = self.servers.iter().map(|server| format!("{}: {}", server.name, server.words));
        let edited = self.edited.then(|| EDITED.to_string());
        let servers: Vec<String> = servers.chain(edited).collect();
        json!([self.name, self.account, self.kept, self.serial, servers.join(", ")])
    }
}

/// As the template says it.
const EDITED: &str = "file edited by hand since";

#[derive(Serialize)]
pub(super) struct RedirectRow {
    source: String,
    target: String,
    status: u16,
    rest: &'static str,
    until: String,
}

impl RedirectRow {
    pub fn of(redirect: &Redirect) -> Self {
        Self {
            source: source_words(redirect),
            target: redirect.target.text().to_string(),
            status: redirect.status,
            rest: if redirect.keep_path { "goes along" } else { "is dropped" },
            until: redirect.last_day().map(|day| day.to_string()).unwrap_or_default(),
        }
    }

    pub fn cells(&self) -> Value {
        json!([self.source, self.target, self.status.to_string(), self.rest, self.until])
    }
}

#[derive(Serialize)]
pub(super) struct AccountRow {
    name: String,
    email: String,
    plan: String,
    used: Vec<Used>,
}

#[derive(Serialize)]
struct Used {
    what: &'static str,
    has: u32,
    limit: Option<u32>,
    over: bool,
}

impl AccountRow {
    pub fn of(owner: &Owner) -> Self {
        let used = Counted::ALL.into_iter().map(|counted| {
            let limit = owner.plan.as_ref().and_then(|plan| plan.limits.of(counted));
            let has = owner.usage.of(counted);
            Used { what: counted.words(), has, limit, over: limit.is_some_and(|limit| has > limit) }
        });
        Self {
            name: owner.account.name.to_string(),
            email: owner.account.email.clone(),
            plan: owner.plan.as_ref().map(|plan| plan.name.to_string()).unwrap_or_default(),
            used: used.collect(),
        }
    }

    pub fn cells(&self) -> Value {
        let used = self.used.iter().map(|used| match used.limit {
            Some(limit) => format!("{} of {limit}", used.has),
            None => used.has.to_string(),
        });
        Value::from(
            [self.name.clone(), self.email.clone(), self.plan.clone()].into_iter().chain(used).collect::<Vec<_>>(),
        )
    }
}
