//! `account add`: a new customer, with a home that document roots lie in.

use std::path::PathBuf;

use brightharbor_core::account::{Account, AccountName, check_email, check_system_user};
use brightharbor_core::change::{Change, ChangeSet, FolderMake, InventoryChange, UserMake};
use brightharbor_core::harbor::check_path;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{is_root, user_exists};
use clap::Args;
use serde_json::{Value, json};

use super::show::find;
use crate::commands::attach::{self, Attach};
use crate::commands::{Report, hostname, nameserver, plan};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Told where the only way to reach a customer depends on what is kept for that customer.
pub const OWN_MAIL: &str = "the e-mail address lies on the account's own domain: when that fails, nobody can be told";

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
    /// Make the system user, with useradd, without password and login shell. Only root can.
    #[arg(long, requires = "system_user")]
    create_user: bool,
    /// What it may have; without a plan, anything.
    #[arg(long, value_name = "PLAN")]
    plan: Option<String>,
    /// The nameserver set that its new domains are delegated to, in place of that of `[host]`.
    #[arg(long, value_name = "SET")]
    nameserver_set: Option<String>,
    /// The account that sold it.
    #[arg(long, value_name = "ACCOUNT")]
    reseller: Option<String>,
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
    if let Some(user) = &args.system_user {
        check_system_user(user).map_err(Error::wrong_use)?;
    }
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
        let (user, create) = (args.system_user.as_deref(), args.create_user);
        user.map(|user| refuse_user(user, create)).transpose()?;
        let account = Account {
            system_user: args.system_user.clone(),
            plan: args.plan.as_deref().map(|typed| plan::find(harbor, typed)).transpose()?.map(|plan| plan.name),
            nameserver_set: args.nameserver_set.as_deref().map(|set| known_set(harbor, set)).transpose()?,
            reseller: args.reseller.as_deref().map(|typed| find(harbor, typed)).transpose()?.map(|seller| seller.name),
            ..Account::new(name.clone(), args.email.clone(), home)
        };
        Ok(decide(account, create, &title))
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

fn decide(account: Account, create_user: bool, title: &str) -> Decision {
    let mut said = vec![format!("the account {} has its home at {}", account.name, account.home.display())];
    let mut set = ChangeSet::new(title);
    if let Some(name) = account.system_user.clone().filter(|_| create_user) {
        said.push(format!("the system user {name} is new, without password and login shell"));
        set.changes.push(Change::MakeUser(UserMake { name, home: account.home.clone() }));
    }
    set.changes.push(home_folder(&account));
    set.inventory(InventoryChange::AddAccount(account));
    Decision { set, said }
}

/// The home itself, made if its parent is there.
pub fn home_folder(account: &Account) -> Change {
    Change::MakeFolder(FolderMake {
        home: account.home.clone(),
        below: PathBuf::new(),
        system_user: account.system_user.clone(),
        mode: 0o711,
        starter_page: None,
        starter_files: vec![],
    })
}

/// A user that is there, or one that can be made.
pub fn refuse_user(user: &str, create: bool) -> Result<(), Error> {
    match (user_exists(user), create) {
        (false, false) => Err(Error::refused("no-user", format!("there is no system user `{user}`"))
            .advice("have it made with --create-user, or name one that is there")),
        (true, true) => Err(Error::refused("user-exists", format!("there is a system user `{user}` already"))
            .advice("leave --create-user out to give the account that user, or choose another name")),
        (false, true) if !is_root() => {
            Err(Error::refused("not-root", format!("only root can make the system user `{user}`"))
                .advice("run it as root, or leave --create-user out"))
        }
        _ => Ok(()),
    }
}

/// The name of a nameserver set that is there.
pub fn known_set(harbor: &Harbor, name: &str) -> Result<String, Error> {
    nameserver::find(harbor, name).map(|_| name.to_string())
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
            page.hanging("note: ", OWN_MAIL);
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
