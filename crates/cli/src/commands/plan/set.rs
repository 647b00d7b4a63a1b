//! `plan add` and `plan change`: the limits of a plan.

use brightharbor_core::account::{LimitWish, LimitWishes, add_plan, change_plan};
use clap::Args;

use crate::commands::{Report, plan_name};
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change};
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
    /// How many subdomains.
    #[arg(long, value_name = "COUNT")]
    subdomains: Option<String>,
    /// How many alias domains.
    #[arg(long, value_name = "COUNT")]
    alias_domains: Option<String>,
    /// How many redirects.
    #[arg(long, value_name = "COUNT")]
    redirects: Option<String>,
    /// Disk to report against, in MiB.
    #[arg(long, value_name = "MIB")]
    disk: Option<String>,
    /// Scripts of PHP that run at once, from 1 on.
    #[arg(long, value_name = "COUNT")]
    scripts: Option<String>,
    /// What one of them may have, in MiB, from 8 on.
    #[arg(long, value_name = "MIB")]
    script_memory: Option<String>,
}

impl Given {
    fn wishes(&self) -> Result<LimitWishes, Error> {
        let read = |typed: &Option<String>| -> Result<LimitWish, Error> {
            match typed.as_deref() {
                None => Ok(None),
                Some("any") => Ok(Some(None)),
                Some(text) => {
                    let wrong = || Error::wrong_use(format!("`{}` is not a count", text.escape_debug()));
                    let count = text.parse().map_err(|_| wrong().advice("give a number, or `any`"))?;
                    Ok(Some(Some(count)))
                }
            }
        };
        Ok(LimitWishes {
            addon_domains: read(&self.addon_domains)?,
            subdomains: read(&self.subdomains)?,
            alias_domains: read(&self.alias_domains)?,
            redirects: read(&self.redirects)?,
            disk: read(&self.disk)?,
            scripts: at_least(1, "--scripts", read(&self.scripts)?)?,
            script_memory: at_least(8, "--script-memory", read(&self.script_memory)?)?,
        })
    }
}

/// PHP does not start with less.
fn at_least(least: u32, option: &str, wish: LimitWish) -> Result<LimitWish, Error> {
    match wish {
        Some(Some(count)) if count < least => {
            Err(Error::wrong_use(format!("`{option} {count}` is too little")).advice(format!("give {least} or more")))
        }
        wish => Ok(wish),
    }
}

pub fn add(args: &Add, context: &Context) -> Report {
    let (name, wishes) = (plan_name(&args.name)?, args.given.wishes()?);
    let like = args.like.as_deref().map(plan_name).transpose()?;
    let title = format!("plan add {name}");
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, _| {
        let present = overlay.store.plan(&name)?;
        let found = like.as_ref().map(|like| overlay.store.plan(like)).transpose()?.flatten();
        let like = like.as_ref().map(|like| (like, found.as_ref()));
        Ok((add_plan(&name, present.as_ref(), like, &wishes)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "plan add", carried }))
}

pub fn change_limits(args: &Change, context: &Context) -> Report {
    let (name, wishes) = (plan_name(&args.name)?, args.given.wishes()?);
    let title = format!("plan change {name}");
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, _| {
        Ok((change_plan(&name, overlay.store.plan(&name)?.as_ref(), &wishes)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "plan change", carried }))
}
