//! `account change`: how a customer is reached, what it may have, whose folders they are, and where they lie.

use std::path::PathBuf;

use brightharbor_core::account::{
    AccountName, AccountRefusal, ChangeAccount as Request, UserWish, change_account, check_email, check_system_user,
};
use brightharbor_io::load;
use clap::Args;

use crate::commands::{Report, account_name, plan_name};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change, until_served};
use crate::show::{ChangeReport, Shown};

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
    let name = account_name(&args.name)?;
    if let Some(email) = &args.email {
        check_email(email).map_err(Error::wrong_use)?;
    }
    let user = none_or(&args.system_user).map(|name| UserWish { name, create: args.create_user });
    if let Some(UserWish { name: Some(user), .. }) = &user {
        check_system_user(user).map_err(Error::wrong_use)?;
    }
    let read = |wish: Option<Option<String>>, parse: fn(&str) -> Result<AccountName, Error>| {
        wish.map(|wish| wish.as_deref().map(parse).transpose()).transpose()
    };
    let request =
        change_request(args, read(none_or(&args.plan), plan_name)?, read(none_or(&args.reseller), account_name)?, user);
    let title = format!("account change {name}");
    context.block_on(async {
        let (carried, ()) = change(context, &title, &args.options, async |overlay, _| {
            let account = load::find_account(overlay, &name)?.ok_or_else(|| AccountRefusal::Unknown(name.clone()))?;
            let loaded = load::change_account(overlay, account, &request)?;
            Ok((change_account(&request, &loaded, &overlay.settings, &overlay.layout)?, ()))
        })
        .await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "account change", carried }) as Box<dyn Shown>)
    })?
}

fn change_request(
    args: &ChangeAccount,
    plan: Option<Option<AccountName>>,
    reseller: Option<Option<AccountName>>,
    user: Option<UserWish>,
) -> Request {
    Request {
        email: args.email.clone(),
        plan,
        nameserver_set: none_or(&args.nameserver_set),
        reseller,
        user,
        home: args.home.as_ref().map(|home| std::path::absolute(home).unwrap_or_else(|_| home.clone())),
    }
}

/// `none` takes it away.
fn none_or(typed: &Option<String>) -> Option<Option<String>> {
    typed.as_ref().map(|typed| Some(typed.clone()).filter(|typed| typed != "none"))
}
