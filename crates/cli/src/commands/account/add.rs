//! `account add`: a new customer, with a home that document roots lie in.

use std::path::PathBuf;

use brightharbor_core::account::{AccountName, AddAccount, UserWish, add_account, check_email, check_system_user};
use brightharbor_io::load;
use clap::Args;
use serde_json::{Value, json};

use crate::attaching::{attach, first_domain};
use crate::commands::{Report, account_name, hostname, plan_name};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
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
    /// Take a home that exists already, with what is in it.
    #[arg(long)]
    existing: bool,
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
            Error::wrong_use("no account name can be made from the domain").advice("give the account a name of its own")
        })?,
    };
    check_email(&args.email).map_err(Error::wrong_use)?;
    if let Some(user) = &args.system_user {
        check_system_user(user).map_err(Error::wrong_use)?;
    }
    let account = |typed: &Option<String>| typed.as_deref().map(account_name).transpose();
    let request = AddAccount {
        name: name.clone(),
        email: args.email.clone(),
        home: args.home.as_ref().map(|home| std::path::absolute(home).unwrap_or_else(|_| home.clone())),
        existing: args.existing,
        user: UserWish { name: args.system_user.clone(), create: args.create_user },
        plan: args.plan.as_deref().map(plan_name).transpose()?,
        nameserver_set: args.nameserver_set.clone(),
        reseller: account(&args.reseller)?,
        domain,
    };
    let title = format!("account add {name}");
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, _| {
        let loaded = load::add_account(overlay, &request)?;
        Ok((add_account(&request, &loaded, &overlay.settings)?, ()))
    }))??;
    let attached = match request.domain {
        // The account is there by now, so that a domain that cannot be attached takes nothing back.
        Some(domain) if carried.entry.is_some() => {
            let requests = vec![first_domain(domain, name)];
            Some(context.block_on(attach(requests, vec![], &args.options, context))??)
        }
        _ => None,
    };
    Ok(Box::new(Added { carried, attached }))
}

struct Added {
    carried: Carried,
    attached: Option<Box<dyn Shown>>,
}

impl Shown for Added {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.carried);
        if let Some(attached) = &self.attached {
            page.blank();
            attached.human(page);
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "account add",
            "change": json::ChangeDocument::from(&self.carried),
            "attached": self.attached.as_ref().map(|attached| attached.json()),
        })
    }

    fn exit(&self) -> Exit {
        self.attached.as_ref().map_or_else(|| self.carried.exit(Exit::Done), |attached| attached.exit())
    }
}
