//! `ca list`: where certificates can be got, and whether there is an account.

use std::collections::BTreeMap;

use brightharbor_core::harbor::Ca;
use brightharbor_io::acme::{known_account, known_profiles, open_account_keys};
use brightharbor_io::harbor::Harbor;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::Exit;
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::Page;

/// List the CAs of harbor.toml with the accounts that this harbor has there.
#[derive(Debug, Args)]
pub struct List {
    #[command(flatten)]
    with: WithText,
}

pub fn run(args: &List, context: &Context) -> Report {
    let harbor = context.open()?;
    let named = [("default".to_string(), &harbor.settings.ca)];
    let others = harbor.settings.cas.iter().map(|(name, ca)| (name.clone(), ca));
    let known = named.into_iter().chain(others).filter(|(_, ca)| ca.directory.is_some());
    let rows: Vec<Row> = known.map(|(name, ca)| Row::of(&harbor, name, ca)).collect();
    let of = rows.len();
    let cells = |row: &Row| vec![row.name.clone(), row.directory.clone(), row.contact.clone().unwrap_or_default()];
    Ok(Box::new(Cas { cas: args.with.narrow(rows, of, cells) }))
}

struct Row {
    name: String,
    directory: String,
    account: Option<String>,
    contact: Option<String>,
    terms_accepted: bool,
    /// Why it cannot be used, if it cannot.
    problem: Option<String>,
    /// The kinds of certificates that it offers, as its directory said lately.
    profiles: BTreeMap<String, String>,
    /// Keys of the account that others can read.
    open_keys: Vec<String>,
}

impl Row {
    fn of(harbor: &Harbor, name: String, ca: &Ca) -> Self {
        let mut row = Row {
            name,
            directory: ca.directory.clone().unwrap_or_default(),
            account: None,
            contact: ca.contact.clone(),
            terms_accepted: ca.terms_accepted,
            problem: None,
            profiles: known_profiles(ca, &harbor.layout),
            open_keys: open_account_keys(ca, &harbor.layout).iter().map(|key| key.display().to_string()).collect(),
        };
        match known_account(ca, &harbor.layout) {
            Ok(account) => row.account = account,
            Err(error) => row.problem = Some(error.to_string()),
        }
        row
    }
}

struct Cas {
    cas: Narrowed<Row>,
}

impl Shown for Cas {
    fn human(&self, page: &mut Page) {
        if self.cas.rows.is_empty() && self.cas.of > 0 {
            return page.line("No CA matches.");
        }
        if self.cas.rows.is_empty() {
            page.line("harbor.toml names no CA.");
            return page
                .hanging("  next: ", "set `directory` under [ca], and `terms-accepted` after reading its terms");
        }
        for row in &self.cas.rows {
            page.blank();
            page.heading(&row.name);
            let account = match (&row.problem, &row.account, row.terms_accepted) {
                (Some(problem), ..) => problem.clone(),
                (None, Some(account), _) => account.clone(),
                (None, None, true) => "none yet: the first order opens it".into(),
                (None, None, false) => "none: its terms are not accepted".into(),
            };
            page.hanging("  directory  ", &row.directory);
            page.hanging("  account    ", &account);
            page.hanging("  contact    ", row.contact.as_deref().unwrap_or("none"));
            for (profile, what) in &row.profiles {
                page.hanging("  profile    ", format!("{profile}  {what}").trim());
            }
            for key in &row.open_keys {
                page.hanging(
                    "  key        ",
                    &format!(
                        "others can read it: chmod 600 {key}; for another one: brightharbor ca change-key {}",
                        row.name
                    ),
                );
            }
        }
    }

    fn json(&self) -> Value {
        let row = |row: &Row| {
            json!({
                "name": row.name,
                "directory": row.directory,
                "account": row.account,
                "contact": row.contact,
                "terms_accepted": row.terms_accepted,
                "problem": row.problem,
                "profiles": row.profiles,
                "open_keys": row.open_keys,
            })
        };
        let rows: Vec<Value> = self.cas.rows.iter().map(row).collect();
        let mut document = json!({ "command": "ca list", "cas": rows });
        self.cas.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        let is_wrong = |row: &Row| row.problem.is_some() || !row.open_keys.is_empty();
        if self.cas.rows.iter().any(is_wrong) { Exit::Fault } else { Exit::Done }
    }
}
