//! `plan add` and `plan change`: the limits of a plan.

use brightharbor_core::account::{AccountName, AccountPlan, Limits};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use clap::Args;

use super::{find, limit_words, limits};
use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;

/// Add a plan. A limit that is not given is none; 0 allows none.
#[derive(Debug, Args)]
pub struct Add {
    /// Its name: lower-case letters, digits and hyphens.
    name: String,
    /// Begin with the limits of this plan.
    #[arg(long, value_name = "PLAN")]
    like: Option<String>,
    #[command(flatten)]
    given: Given,
    #[command(flatten)]
    options: ChangeOptions,
}

/// Change the limits of a plan. What accounts have already stays.
#[derive(Debug, Args)]
pub struct Change {
    /// The plan.
    name: String,
    #[command(flatten)]
    given: Given,
    #[command(flatten)]
    options: ChangeOptions,
}

/// A count, or `any`.
#[derive(Debug, Clone, Args)]
struct Given {
    /// How many addon domains an account may have: a number, or `any`.
    #[arg(long, value_name = "COUNT")]
    addon_domains: Option<String>,
    #[arg(long, value_name = "COUNT")]
    subdomains: Option<String>,
    #[arg(long, value_name = "COUNT")]
    parked_domains: Option<String>,
    #[arg(long, value_name = "COUNT")]
    redirects: Option<String>,
    /// Disk to report against, in MiB.
    #[arg(long, value_name = "MIB")]
    disk: Option<String>,
}

impl Given {
    fn onto(&self, mut limits: Limits) -> Result<Limits, Error> {
        let read = |typed: &Option<String>, limit: &mut Option<u32>| -> Result<(), Error> {
            match typed.as_deref() {
                None => {}
                Some("any") => *limit = None,
                Some(text) => {
                    let count = text.parse().map_err(|_| {
                        Error::wrong_use(format!("`{}` is no count", text.escape_debug()))
                            .advice("give a number, or `any`")
                    })?;
                    *limit = Some(count);
                }
            }
            Ok(())
        };
        read(&self.addon_domains, &mut limits.addon_domains)?;
        read(&self.subdomains, &mut limits.subdomains)?;
        read(&self.parked_domains, &mut limits.parked_domains)?;
        read(&self.redirects, &mut limits.redirects)?;
        read(&self.disk, &mut limits.disk)?;
        Ok(limits)
    }
}

pub fn add(args: &Add, context: &Context) -> Report {
    let name = AccountName::parse(&args.name).map_err(|_| {
        Error::wrong_use(format!("`{}` is no name of a plan", args.name.escape_debug()))
            .advice("1 to 31 lower-case letters, digits or hyphens, a letter first")
    })?;
    let title = format!("plan add {name}");
    set(context, &title, "plan add", &args.options, &args.given, |harbor| {
        if harbor.store.plan(&name)?.is_some() {
            return Err(Error::refused("plan-exists", format!("there is a plan `{name}` already"))
                .advice(format!("change it: brightharbor plan change {name}")));
        }
        let limits = match &args.like {
            Some(like) => find(harbor, like)?.limits,
            None => Limits::default(),
        };
        Ok(AccountPlan { name: name.clone(), limits })
    })
}

pub fn change_limits(args: &Change, context: &Context) -> Report {
    let title = format!("plan change {}", args.name);
    set(context, &title, "plan change", &args.options, &args.given, |harbor| find(harbor, &args.name))
}

fn set(
    context: &Context,
    title: &str,
    command: &'static str,
    options: &ChangeOptions,
    given: &Given,
    plan: impl Fn(&brightharbor_io::harbor::Harbor) -> Result<AccountPlan, Error>,
) -> Report {
    let changed = context.block_on(change(context, title, options, async |harbor, _| {
        let before = plan(harbor)?;
        let after = AccountPlan { limits: given.onto(before.limits)?, name: before.name };
        let words: Vec<String> =
            limits(&after.limits).map(|(name, limit)| format!("{name} {}", limit_words(limit))).collect();
        let said = vec![format!("the plan {} allows: {}", after.name, words.join(", "))];
        let mut set = ChangeSet::new(title);
        set.inventory(InventoryChange::SetPlan(after));
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(ChangeReport { command, changed }))
}
