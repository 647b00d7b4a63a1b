//! `account add`: a new customer, with a home that document roots lie in.

use std::path::PathBuf;

use brightharbor_core::change::{Change, ChangeSet, FolderMake, InventoryChange};
use brightharbor_core::site::{Account, AccountName, check_email, check_path};
use clap::Args;
use serde_json::{Value, json};

use crate::commands::attach::{self, Attach};
use crate::commands::{Report, hostname, plan};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Add an account.
#[derive(Debug, Args)]
pub struct Add {
    /// Its name: lower-case letters, digits and hyphens. With --domain made from it, if not given.
    #[arg(required_unless_present = "domain")]
    name: Option<String>,
    /// Attach this domain as its first one, in the same call.
    #[arg(long, value_name = "DOMAIN")]
    domain: Option<String>,
    /// Where to reach the customer.
    #[arg(long, value_name = "ADDRESS")]
    email: String,
    /// The folder that its document roots lie in; made if its parent is there. By default as `home` under [sites]
    /// in harbor.toml says.
    #[arg(long, value_name = "FOLDER")]
    home: Option<PathBuf>,
    /// The system user that owns its document roots; by default the user who runs this.
    #[arg(long, value_name = "USER")]
    system_user: Option<String>,
    /// What it may have; without a plan, anything.
    #[arg(long, value_name = "PLAN")]
    plan: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Add, context: &Context) -> Report {
    let domain = args.domain.as_deref().map(hostname).transpose()?;
    let name = match (&args.name, &domain) {
        (Some(name), _) => AccountName::parse(name).map_err(Error::wrong_use)?,
        (None, domain) => domain.as_ref().and_then(AccountName::from_domain).ok_or_else(|| {
            Error::wrong_use("no name can be made from the domain").advice("give the account a name of its own")
        })?,
    };
    check_email(&args.email).map_err(Error::wrong_use)?;
    let title = format!("account add {name}");
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        if harbor.store.account(&name)?.is_some() {
            return Err(Error::refused("account-exists", format!("there is an account `{name}` already"))
                .advice("see `brightharbor account list`"));
        }
        let home = match &args.home {
            Some(home) => std::path::absolute(home).unwrap_or_else(|_| home.clone()),
            None => PathBuf::from(harbor.settings.sites.home.replace("{account}", name.as_str())),
        };
        check_path(&home).map_err(|error| Error::refused("home", error).advice("give another one with --home"))?;
        let plan = args.plan.as_deref().map(|typed| plan::find(harbor, typed)).transpose()?;
        Ok(decide(name.clone(), args, home, plan.map(|plan| plan.name), &title))
    }))??;
    let attached = match &args.domain {
        // The account is there by now, so that a domain that cannot be attached takes nothing back.
        Some(domain) if changed.entry.is_some() => {
            Some(attach::run(&Attach::first(domain, &name, &args.options), context)?)
        }
        _ => None,
    };
    let own_mail = domain.is_some_and(|domain| args.email.to_ascii_lowercase().ends_with(&format!("@{domain}")));
    Ok(Box::new(Added { changed, attached, own_mail }))
}

fn decide(name: AccountName, args: &Add, home: PathBuf, plan: Option<AccountName>, title: &str) -> Decision {
    let account =
        Account { name, email: args.email.clone(), home: home.clone(), system_user: args.system_user.clone(), plan };
    let said = vec![format!("the account {} has its home at {}", account.name, home.display())];
    let mut set = ChangeSet::new(title);
    set.changes.push(Change::MakeFolder(FolderMake {
        home,
        below: PathBuf::new(),
        system_user: args.system_user.clone(),
        mode: 0o711,
        starter_page: None,
        starter_files: vec![],
    }));
    set.inventory(InventoryChange::AddAccount(account));
    Decision { set, said }
}

struct Added {
    changed: Changed,
    attached: Option<Box<dyn Shown>>,
    /// Whether the only address lies in the only domain.
    own_mail: bool,
}

impl Shown for Added {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
        if self.own_mail {
            let text = "the e-mail address lies on the account's own domain: when that fails, nobody can be told";
            page.hanging("note: ", text);
        }
        if let Some(attached) = &self.attached {
            page.blank();
            attached.human(page);
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "account add",
            "change": json::ChangeDocument::from(&self.changed),
            "attached": self.attached.as_ref().map(|attached| attached.json()),
        })
    }

    fn exit(&self) -> Exit {
        self.attached.as_ref().map_or(Exit::Done, |attached| attached.exit())
    }
}
