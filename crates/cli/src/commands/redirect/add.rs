//! `redirect add`: from a name or path to somewhere else.

use brightharbor_core::redirect::{AddRedirects, RedirectError, Source, Sources, Target, check_status};
use clap::Args;

use crate::commands::{Report, account_name};
use crate::duration::end_of_day;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::redirecting::decide;
use crate::run::{Context, change, until_served};
use crate::show::{ChangeReport, Shown};

/// Redirect visitors of a name or path.
#[derive(Debug, Args)]
pub struct Add {
    /// HOSTNAME (every page of it), HOSTNAME/ (its root page) or HOSTNAME/PATH; or, with --all-of, the target.
    #[arg(value_name = "SOURCE")]
    source: String,
    /// A URL with http:// or https://, or a path on the same host that begins with /.
    #[arg(required_unless_present = "all_of")]
    target: Option<String>,
    /// All hostnames of this account in place of one source: give the target alone.
    #[arg(long, value_name = "ACCOUNT", conflicts_with = "target")]
    all_of: Option<String>,
    /// Permanent (301): browsers remember it even after you remove it. By default temporary (302).
    #[arg(long, conflicts_with = "status")]
    permanent: bool,
    /// The status itself: 301 or 308 permanent, 302 or 307 temporary; 307 and 308 keep a form's data.
    #[arg(long)]
    status: Option<u16>,
    /// Everything below the path too.
    #[arg(long)]
    prefix: bool,
    /// Everything below the path too, and carry the rest of the path and the query along.
    #[arg(long)]
    keep_path: bool,
    /// For the www twin of the hostname too, or for the name that it is the twin of.
    #[arg(long)]
    with_twin: bool,
    /// The day it ends (UTC), as 2026-12-24: `tend` removes it.
    #[arg(long, value_name = "DATE")]
    until: Option<jiff::civil::Date>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Add, context: &Context) -> Report {
    let wrong = |error: RedirectError| Error::wrong_use(&error).advice(advice(&error));
    let typed = args.target.as_deref().unwrap_or(&args.source);
    let target = Target::parse(typed, args.keep_path).map_err(wrong)?;
    let status = match (args.permanent, args.status) {
        (true, _) => 301,
        (false, Some(status)) => check_status(status).map_err(wrong)?,
        (false, None) => 302,
    };
    let sources = match &args.all_of {
        Some(account) => Sources::AllOf(account_name(account)?),
        None => Sources::One(Source::parse(&args.source, args.prefix || args.keep_path).map_err(wrong)?),
    };
    let until = args.until.map(end_of_day).transpose()?;
    let (keep_path, with_twin) = (args.keep_path, args.with_twin);
    let request = AddRedirects { sources, target, typed: typed.into(), status, keep_path, with_twin, until };
    let title = match &args.all_of {
        Some(account) => format!("redirect add --all-of {account} {typed}"),
        None => format!("redirect add {} {typed}", args.source.trim()),
    };
    context.block_on(async {
        let (carried, ()) =
            change(context, &title, &args.options, async |overlay, now| Ok((decide(overlay, &request, now)?, ())))
                .await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "redirect add", carried }) as Box<dyn Shown>)
    })?
}

fn advice(error: &RedirectError) -> &'static str {
    match error {
        RedirectError::NoScheme(_) => "give the whole address, as https://quay.example/boats, or a path as /boats",
        RedirectError::NoRoom(_) => "omit --keep-path, or give a target without query and fragment",
        RedirectError::Reserved(_) => "choose another path",
        RedirectError::Query(_) => "omit the query",
        _ => "correct it, then try again",
    }
}
