//! `account change`: how a customer is reached, what it may have, whose folders they are, and where they lie.

use std::path::{Path, PathBuf};

use brightharbor_core::account::{Account, check_email, check_system_user};
use brightharbor_core::change::{Change, ChangeSet, InventoryChange, UserMake};
use brightharbor_core::harbor::check_path;
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use clap::Args;

use super::add::{OWN_MAIL, home_folder, known_set, refuse_user};
use super::show::find;
use crate::commands::{Report, plan};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;
use crate::site_change::{await_served, site_change};

/// Change an account. `none` takes a plan, nameserver set, reseller or system user away.
#[derive(Debug, Args)]
pub struct ChangeAccount {
    /// The account.
    name: String,
    /// Where to reach the customer.
    #[arg(long, value_name = "ADDRESS")]
    email: Option<String>,
    /// Another plan; `none` for no limits.
    #[arg(long, value_name = "PLAN")]
    plan: Option<String>,
    /// Another home. Its files are moved there before, by hand: nothing in a home is moved or deleted.
    #[arg(long, value_name = "FOLDER")]
    home: Option<PathBuf>,
    /// The system user that owns folders made from now on; `none`: the user who runs this.
    #[arg(long, value_name = "USER")]
    system_user: Option<String>,
    /// Make the system user, with useradd. Only root can.
    #[arg(long, requires = "system_user")]
    create_user: bool,
    /// The nameserver set that its new domains are delegated to.
    #[arg(long, value_name = "SET")]
    nameserver_set: Option<String>,
    /// The account that sold it.
    #[arg(long, value_name = "ACCOUNT")]
    reseller: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &ChangeAccount, context: &Context) -> Report {
    if let Some(email) = &args.email {
        check_email(email).map_err(Error::wrong_use)?;
    }
    let title = format!("account change {}", args.name);
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let before = find(harbor, &args.name)?;
        let mut set = ChangeSet::new(&title);
        let (after, mut said) = decide(args, harbor, &before, &mut set)?;
        if after.home != before.home {
            said.extend(move_home(args, harbor, &before, &after, &mut set)?);
        }
        if after != before {
            set.inventory(InventoryChange::ReplaceAccount { before, after });
        } else {
            said = vec!["nothing is to be changed".to_string()];
        }
        Ok(Decision { set, said })
    }))??;
    await_served(context, &changed)?;
    Ok(Box::new(ChangeReport { command: "account change", changed }))
}

fn decide(
    args: &ChangeAccount,
    harbor: &Harbor,
    before: &Account,
    set: &mut ChangeSet,
) -> Result<(Account, Vec<String>), Error> {
    let (mut after, mut said) = (before.clone(), Vec::new());
    if let Some(email) = &args.email {
        said.push(format!("the account {} is reached at {email}", after.name));
        after.email = email.clone();
        if on_own_domain(harbor, before, email)? {
            said.push(format!("note: {OWN_MAIL}"));
        }
    }
    match args.plan.as_deref() {
        None => {}
        Some("none") => {
            said.push("it has no plan, and no limits".into());
            after.plan = None;
        }
        Some(typed) => {
            let plan = plan::find(harbor, typed)?.name;
            said.push(format!("it has the plan {plan}"));
            after.plan = Some(plan);
        }
    }
    match args.nameserver_set.as_deref() {
        None => {}
        Some("none") => {
            said.push("its new domains are delegated to the nameservers of [host]".into());
            after.nameserver_set = None;
        }
        Some(typed) => {
            after.nameserver_set = Some(known_set(harbor, typed)?);
            said.push(format!("its new domains are delegated to the nameserver set {typed}; `zone move` moves others"));
        }
    }
    match args.reseller.as_deref() {
        None => {}
        Some("none") => {
            said.push("it has no reseller".into());
            after.reseller = None;
        }
        Some(typed) => {
            let seller = find(harbor, typed)?;
            refuse_circle(harbor, before, &seller)?;
            said.push(format!("its reseller is {}", seller.name));
            after.reseller = Some(seller.name);
        }
    }
    match args.system_user.as_deref() {
        None => {}
        Some("none") => {
            said.push("folders made from now on belong to the user who runs this".into());
            after.system_user = None;
        }
        Some(user) => {
            check_system_user(user).map_err(Error::wrong_use)?;
            refuse_user(user, args.create_user)?;
            if args.create_user {
                set.changes.push(Change::MakeUser(UserMake { name: user.into(), home: after.home.clone() }));
                said.push(format!("the system user {user} is new, without password and login shell"));
            }
            said.push(format!(
                "folders made from now on belong to {user}; those there already keep their owner until you give them \
                 over: chown -R -h {user}: {}",
                after.home.display()
            ));
            after.system_user = Some(user.to_string());
        }
    }
    if let Some(home) = &args.home {
        let home = std::path::absolute(home).unwrap_or_else(|_| home.clone());
        check_path(&home).map_err(|error| Error::refused("home", error).advice("give another one with --home"))?;
        after.home = home;
    }
    Ok((after, said))
}

/// Whether a mailbox lies in a zone of the account itself.
fn on_own_domain(harbor: &Harbor, account: &Account, email: &str) -> Result<bool, Error> {
    let host = email.rsplit_once('@').and_then(|(_, host)| Hostname::parse(host).ok());
    let zone = host.map(|host| harbor.store.enclosing_zone(&host)).transpose()?.flatten();
    Ok(zone.is_some_and(|zone| zone.account == account.name))
}

/// An account cannot be sold by itself, however many stand between.
fn refuse_circle(harbor: &Harbor, account: &Account, seller: &Account) -> Result<(), Error> {
    let mut at = Some(seller.clone());
    // No chain is longer than there are accounts; a broken one must not hold us.
    for _ in 0..100 {
        let Some(above) = at else { return Ok(()) };
        if above.name == account.name {
            let message = format!("{} would be sold by itself, through {}", account.name, seller.name);
            return Err(Error::refused("reseller-circle", message).advice("see `brightharbor account list`"));
        }
        at = above.reseller.map(|name| harbor.store.account(&name)).transpose()?.flatten();
    }
    Ok(())
}

/// The sites follow to the same folders below the new home, which must be there already.
fn move_home(
    args: &ChangeAccount,
    harbor: &Harbor,
    before: &Account,
    after: &Account,
    set: &mut ChangeSet,
) -> Result<Vec<String>, Error> {
    let sites = harbor.store.sites(Some(&before.name))?;
    let moved = |site: &Site| site.document_root.strip_prefix(&before.home).map(|below| after.home.join(below));
    for site in &sites {
        let root = moved(site).unwrap_or_else(|_| site.document_root.clone());
        if !is_folder(&root) {
            let message = format!("{} is not there: the site {} would show nothing", root.display(), site.main());
            return Err(Error::refused("home-not-moved", message).advice(format!(
                "move the files first, as in: mv {} {}",
                before.home.display(),
                after.home.display()
            )));
        }
    }
    set.changes.push(home_folder(after));
    for site in &sites {
        if let Ok(root) = moved(site) {
            let changed = Site { document_root: root, ..site.clone() };
            site_change(harbor, site, &changed, &args.options, set)?;
        }
    }
    let following = if sites.is_empty() { "" } else { "; its sites are served from there" };
    Ok(vec![format!("the home of {} is {}{following}", after.name, after.home.display())])
}

/// A folder, and no link to one.
fn is_folder(path: &Path) -> bool {
    std::fs::symlink_metadata(path).is_ok_and(|found| found.is_dir())
}
