//! `certificate list --former` and `--under-way`: what lies beside the certificates in place.

use brightharbor_core::account::AccountName;
use brightharbor_core::name::Host;
use brightharbor_core::zone::show_seconds;
use brightharbor_io::clock;
use brightharbor_io::load::{FormerFound, UnderWay, UnderWayKind, former_of, under_way};
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::Exit;
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::human::Page;
use crate::show::words::host_words;
use crate::show::{Shown, counted};

pub fn former(with: &WithText, account: Option<&AccountName>, context: &Context) -> Report {
    let harbor = context.open()?;
    let (rows, now) = (former_of(&harbor, &harbor.store.sites(account)?)?, clock::now());
    let of = rows.len();
    Ok(Box::new(Former { rows: with.narrow(rows, of, |row| former_cells(row, now)), now }))
}

pub fn still_under_way(with: &WithText, account: Option<&AccountName>, context: &Context) -> Report {
    let harbor = context.open()?;
    let mut rows = Vec::new();
    for one in under_way(&harbor) {
        let of_account = match account {
            None => true,
            Some(account) => harbor.store.site_of(&one.site)?.is_some_and(|site| site.account == *account),
        };
        rows.extend(Some(one).filter(|_| of_account));
    }
    let (of, now) = (rows.len(), clock::now());
    Ok(Box::new(StillUnderWay { rows: with.narrow(rows, of, |one| under_way_cells(one, now)), now }))
}

struct Former {
    rows: Narrowed<(Host, FormerFound)>,
    now: Timestamp,
}

/// Whether it would do in the place of the one that is there.
fn former_words(found: &FormerFound, now: Timestamp) -> String {
    match (found.chain.first(), &found.judged) {
        (None, _) => "cannot be read".into(),
        (Some(leaf), _) if leaf.not_after <= now => "expired".into(),
        _ if found.revoked => "revoked".into(),
        (_, Ok(())) => "trusted".into(),
        (_, Err(distrust)) => format!("not trusted: {}", distrust.words()),
    }
}

fn former_cells((site, found): &(Host, FormerFound), now: Timestamp) -> Vec<String> {
    let leaf = found.chain.first();
    vec![
        host_words(site),
        found.name.clone(),
        found.source.words().to_string(),
        leaf.map_or_else(String::new, |leaf| leaf.not_after.strftime("%Y-%m-%d").to_string()),
        leaf.map_or_else(String::new, |leaf| counted(leaf.names.len(), "name")),
        former_words(found, now),
    ]
}

impl Shown for Former {
    fn human(&self, page: &mut Page) {
        let headings = ["site", "kept as", "source", "until", "covers", "state"];
        let none = "No former certificates are kept.";
        self.rows.show(page, "former certificate", none, &headings, |row| former_cells(row, self.now));
        if !self.rows.rows.is_empty() {
            page.blank();
            page.hanging("", "to put one back: brightharbor certificate install --site HOSTNAME --former NAME");
        }
    }

    fn json(&self) -> Value {
        let row = |(site, found): &(Host, FormerFound)| {
            let leaf = found.chain.first();
            json!({
                "site": site,
                "name": found.name,
                "folder": found.folder.display().to_string(),
                "source": found.source,
                "names": leaf.map(|leaf| &leaf.names),
                "issuer": leaf.map(|leaf| &leaf.issuer),
                "not_before": leaf.map(|leaf| leaf.not_before.to_string()),
                "not_after": leaf.map(|leaf| leaf.not_after.to_string()),
                "trusted": found.judged.is_ok(),
                "revoked": found.revoked,
            })
        };
        let rows: Vec<Value> = self.rows.rows.iter().map(row).collect();
        let mut document = json!({ "command": "certificate list", "former": rows });
        self.rows.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

struct StillUnderWay {
    rows: Narrowed<UnderWay>,
    now: Timestamp,
}

/// In seconds.
fn age(one: &UnderWay, now: Timestamp) -> u64 {
    u64::try_from(now.duration_since(one.since).as_secs()).unwrap_or_default()
}

fn under_way_cells(one: &UnderWay, now: Timestamp) -> Vec<String> {
    let place = one.place.display().to_string();
    vec![host_words(&one.site), kind_words(one.what).1.into(), show_seconds(age(one, now)), place]
}

fn kind_words(kind: UnderWayKind) -> (&'static str, &'static str) {
    match kind {
        UnderWayKind::Request => ("request", "request for one that is to be bought"),
        UnderWayKind::Order => ("order", "order at a CA"),
    }
}

impl Shown for StillUnderWay {
    fn human(&self, page: &mut Page) {
        let headings = ["site", "what", "age", "kept in"];
        let none = "Nothing is under way.";
        self.rows.show(page, "piece of work", none, &headings, |one| under_way_cells(one, self.now));
    }

    fn json(&self) -> Value {
        let row = |one: &UnderWay| {
            json!({
                "site": one.site,
                "kind": kind_words(one.what).0,
                "since": one.since.to_string(),
                "age_seconds": age(one, self.now),
                "place": one.place.display().to_string(),
            })
        };
        let rows: Vec<Value> = self.rows.rows.iter().map(row).collect();
        let mut document = json!({ "command": "certificate list", "under_way": rows });
        self.rows.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
