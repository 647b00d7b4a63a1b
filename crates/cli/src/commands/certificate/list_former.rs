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
use crate::run::Context;
use crate::show::human::{Page, list};
use crate::show::words::host_words;
use crate::show::{Shown, counted};

pub fn former(account: Option<&AccountName>, context: &Context) -> Report {
    let harbor = context.open()?;
    let rows = former_of(&harbor, &harbor.store.sites(account)?)?;
    Ok(Box::new(Former { rows, now: clock::now() }))
}

pub fn still_under_way(account: Option<&AccountName>, context: &Context) -> Report {
    let harbor = context.open()?;
    let mut rows = Vec::new();
    for one in under_way(&harbor) {
        let of_account = match account {
            None => true,
            Some(account) => harbor.store.site_of(&one.site)?.is_some_and(|site| site.account == *account),
        };
        rows.extend(Some(one).filter(|_| of_account));
    }
    Ok(Box::new(StillUnderWay { rows, now: clock::now() }))
}

struct Former {
    rows: Vec<(Host, FormerFound)>,
    now: Timestamp,
}

impl Former {
    /// Whether it would do in the place of the one that is there.
    fn words(&self, found: &FormerFound) -> String {
        match (found.chain.first(), &found.judged) {
            (None, _) => "cannot be read".into(),
            (Some(leaf), _) if leaf.not_after <= self.now => "expired".into(),
            _ if found.revoked => "revoked".into(),
            (_, Ok(())) => "trusted".into(),
            (_, Err(distrust)) => format!("not trusted: {}", distrust.words()),
        }
    }
}

impl Shown for Former {
    fn human(&self, page: &mut Page) {
        if self.rows.is_empty() {
            return page.line("No former certificates are kept.");
        }
        let row = |(site, found): &(Host, FormerFound)| {
            let leaf = found.chain.first();
            vec![
                host_words(site),
                found.name.clone(),
                found.source.words().to_string(),
                leaf.map_or_else(String::new, |leaf| leaf.not_after.strftime("%Y-%m-%d").to_string()),
                leaf.map_or_else(String::new, |leaf| counted(leaf.names.len(), "name")),
                self.words(found),
            ]
        };
        list(page, &["site", "kept as", "source", "until", "covers", "state"], self.rows.iter().map(row).collect());
        page.blank();
        page.hanging("", "to put one back: brightharbor certificate install --site HOSTNAME --former NAME");
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
        json!({ "command": "certificate list", "former": self.rows.iter().map(row).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}

struct StillUnderWay {
    rows: Vec<UnderWay>,
    now: Timestamp,
}

impl StillUnderWay {
    /// In seconds.
    fn age(&self, one: &UnderWay) -> u64 {
        u64::try_from(self.now.duration_since(one.since).as_secs()).unwrap_or_default()
    }
}

fn kind_words(kind: UnderWayKind) -> (&'static str, &'static str) {
    match kind {
        UnderWayKind::Request => ("request", "request for one that is to be bought"),
        UnderWayKind::Order => ("order", "order at a CA"),
    }
}

impl Shown for StillUnderWay {
    fn human(&self, page: &mut Page) {
        if self.rows.is_empty() {
            return page.line("Nothing is under way.");
        }
        let row = |one: &UnderWay| {
            let place = one.place.display().to_string();
            vec![host_words(&one.site), kind_words(one.what).1.into(), show_seconds(self.age(one)), place]
        };
        list(page, &["site", "what", "age", "kept in"], self.rows.iter().map(row).collect());
    }

    fn json(&self) -> Value {
        let row = |one: &UnderWay| {
            json!({
                "site": one.site,
                "kind": kind_words(one.what).0,
                "since": one.since.to_string(),
                "age_seconds": self.age(one),
                "place": one.place.display().to_string(),
            })
        };
        json!({ "command": "certificate list", "under_way": self.rows.iter().map(row).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
