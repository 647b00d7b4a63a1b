//! Refusals about accounts and plans.

use brightharbor_core::account::{AccountName, AccountRefusal, HomeRefusal, LimitReached};

use super::Error;
use crate::show::counted;

pub(super) fn unknown(name: &AccountName) -> Error {
    Error::refused("unknown-account", format!("account `{name}` not found"))
        .advice(format!("see `brightharbor account list`, or add it: brightharbor account add {name} --email ADDRESS"))
        .with("account", name.as_str())
}

impl From<AccountRefusal> for Error {
    fn from(refusal: AccountRefusal) -> Self {
        use AccountRefusal as Why;
        match refusal {
            Why::Exists(name) => Self::refused("account-exists", format!("account `{name}` already exists"))
                .advice("see `brightharbor account list`")
                .with("account", name.as_str()),
            Why::Unknown(name) => unknown(&name),
            Why::Home(refused) => home(refused),
            Why::UserIsRoot(user) => Self::refused(
                "user-is-root",
                format!("system user `{user}` is root: a customer would own what root does"),
            )
            .advice("name a user of its own, or make one with --create-user")
            .with("user", user),
            Why::NoUser(user) => Self::refused("no-user", format!("system user `{user}` not found"))
                .advice("create it with --create-user, or name an existing one")
                .with("user", user),
            Why::UserExists(user) => Self::refused("user-exists", format!("system user `{user}` already exists"))
                .advice("omit --create-user to give the account that user, or choose another name")
                .with("user", user),
            Why::NotRoot(user) => Self::refused("not-root", format!("only root can create system user `{user}`"))
                .advice("run it as root, or omit --create-user")
                .with("user", user),
            Why::UnknownPlan(plan) => Self::refused("unknown-plan", format!("plan `{plan}` not found"))
                .advice("see `brightharbor plan list`")
                .with("plan", plan.as_str()),
            Why::PlanExists(plan) => Self::refused("plan-exists", format!("plan `{plan}` already exists"))
                .advice(format!("change it: brightharbor plan change {plan}"))
                .with("plan", plan.as_str()),
            Why::PlanInUse { plan, holders } => {
                let names: Vec<String> = holders.iter().map(ToString::to_string).collect();
                Self::refused("plan-in-use", format!("plan {plan} is used by {}", names.join(", ")))
                    .advice("give them another plan: brightharbor account change ACCOUNT --plan PLAN")
                    .with("plan", plan.as_str())
                    .with("accounts", names)
            }
            Why::UnknownSet(set) => super::nameserver::unknown_set(&set),
            Why::ResellerCircle { account, through } => {
                let message = format!("account {account} would be its own reseller, through {through}");
                Self::refused("reseller-circle", message)
                    .advice("see `brightharbor account list`")
                    .with("account", account.as_str())
                    .with("through", through.as_str())
            }
            Why::Sells { account, count, first } => {
                let message = format!("account {account} is the reseller of {}", counted(count, "account"));
                Self::refused("account-sells", message)
                    .advice(format!(
                        "give them another reseller first: brightharbor account change {first} --reseller ACCOUNT (or \
                         none)"
                    ))
                    .with("account", account.as_str())
                    .with("accounts", count)
            }
            Why::InUse { account, sites, zones } => {
                let (some_sites, some_zones) = (counted(sites, "site"), counted(zones, "zone"));
                let message = format!("account {account} has {some_sites} and {some_zones}");
                Self::refused("account-in-use", message)
                    .advice(format!(
                        "say what happens to them: brightharbor account remove {account} --sites detach removes the \
                         zones as well; with --zones-to ACCOUNT they go to another account"
                    ))
                    .with("account", account.as_str())
                    .with("sites", sites)
                    .with("zones", zones)
            }
            Why::LeftToItself(account) => {
                Self::wrong_use(format!("the zones of {account} cannot go to the account that is removed"))
                    .advice("name another account with --zones-to")
            }
            Why::HomeNotMoved { site, root, before, after } => {
                let message = format!("{} does not exist: site {site} would have no pages", root.display());
                Self::refused("home-not-moved", message)
                    .advice(format!("move the files first: mv {} {}", before.display(), after.display()))
                    .with("site", site.as_str())
                    .with("document_root", root.display().to_string())
            }
            Why::Limit(reached) => reached.into(),
        }
    }
}

fn home(refused: HomeRefusal) -> Error {
    use HomeRefusal as Why;
    let another = "give another one with --home";
    match refused {
        Why::Path(error) => Error::refused("home", error).advice(another),
        Why::OfSystem(home) => {
            Error::refused("home", format!("{} is a folder of the system, and no home", home.display())).advice(another)
        }
        Why::InHarbor(home) => {
            let message =
                format!("{} overlaps the harbor: its customer could change the harbor's files", home.display());
            Error::refused("home", message).advice(another)
        }
        Why::OfAccount { home, account, of_account } => {
            let message = format!(
                "{} overlaps {}, the home of account {account}: one of the two customers could change the other's files",
                home.display(),
                of_account.display()
            );
            Error::refused("home", message)
                .advice("give a folder beside it with --home")
                .with("account", account.as_str())
        }
        Why::IsThere(home) => Error::refused("home-is-there", format!("{} already exists", home.display()))
            .advice("take it as it is with --existing, or give another one with --home")
            .with("home", home.display().to_string()),
    }
}

impl From<LimitReached> for Error {
    fn from(reached: LimitReached) -> Self {
        let LimitReached { account, plan, counted, present, allowed } = &reached;
        let message =
            format!("account {account} has {present} {}, and its plan `{plan}` allows {allowed}", counted.words());
        Self::refused("limit", message)
            .advice(format!(
                "raise the limit: brightharbor plan change {plan} {} COUNT; or give the account another plan: \
                 brightharbor account change {account} --plan PLAN",
                counted.option()
            ))
            .with("account", account.as_str())
            .with("plan", plan.as_str())
            .with("counted", counted.words())
            .with("present", *present)
            .with("allowed", *allowed)
    }
}
