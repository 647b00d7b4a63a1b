//! `redirect list`: every redirect of the harbor, from the inventory.

use brightharbor_core::account::AccountName;
use brightharbor_core::redirect::Redirect;
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use crate::commands::{Report, find_account};
use crate::error::Exit;
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;
use crate::show::words::source_words;

/// List the redirects.
#[derive(Debug, Args)]
pub struct List {
    /// Of this account alone.
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    #[command(flatten)]
    with: WithText,
    /// By what the list is sorted; those without an end come last.
    #[arg(long, value_enum, default_value = "source")]
    sort: Sort,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Sort {
    Source,
    Target,
    Until,
}

pub fn run(args: &List, context: &Context) -> Report {
    let harbor = context.open()?;
    let account = args.account.as_deref().map(|typed| find_account(&harbor, typed)).transpose()?;
    let sites = harbor.store.sites_with_redirects(account.as_ref().map(|account| &account.name))?;
    let mut rows: Vec<(AccountName, Redirect)> = sites
        .into_iter()
        .flat_map(|site| site.rules.redirects.into_iter().map(move |redirect| (site.account.clone(), redirect)))
        .collect();
    let of = match account {
        Some(_) => harbor.store.sites_with_redirects(None)?.iter().map(|site| site.rules.redirects.len()).sum(),
        None => rows.len(),
    };
    match args.sort {
        Sort::Source => rows.sort_by(|(_, a), (_, b)| a.source.cmp(&b.source)),
        Sort::Target => rows.sort_by(|(_, a), (_, b)| a.target.text().cmp(b.target.text())),
        // Those without an end last.
        Sort::Until => rows.sort_by_key(|(_, redirect)| (redirect.until.is_none(), redirect.until)),
    }
    Ok(Box::new(Redirects { redirects: args.with.narrow(rows, of, cells) }))
}

struct Redirects {
    redirects: Narrowed<(AccountName, Redirect)>,
}

fn cells((_, redirect): &(AccountName, Redirect)) -> Vec<String> {
    let target = redirect.target.text();
    let rest = if redirect.keep_path { " + rest" } else { "" };
    vec![
        source_words(redirect),
        format!("{target}{rest}"),
        redirect.status.to_string(),
        redirect.last_day().map(|day| day.to_string()).unwrap_or_default(),
    ]
}

impl Shown for Redirects {
    fn human(&self, page: &mut Page) {
        let none = "No redirects. Add one: brightharbor redirect add SOURCE TARGET";
        self.redirects.show(page, "redirect", none, &["source", "target", "status", "until"], cells);
    }

    fn json(&self) -> Value {
        let row = |(account, redirect): &(AccountName, Redirect)| {
            json!({
                "account": account,
                "host": redirect.source.host,
                "path": redirect.source.path,
                "prefix": redirect.source.prefix,
                "with_twin": redirect.with_twin,
                "target": redirect.target.text(),
                "status": redirect.status,
                "keep_path": redirect.keep_path,
                "until": redirect.last_day().map(|day| day.to_string()),
            })
        };
        let rows: Vec<Value> = self.redirects.rows.iter().map(row).collect();
        let mut document = json!({ "command": "redirect list", "redirects": rows });
        self.redirects.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
