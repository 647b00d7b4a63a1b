//! `redirect add`: from a name or path to somewhere else.

use brightharbor_core::change::Plan;
use brightharbor_core::redirect::{
    AddRedirects, RedirectError, RedirectRefusal, Sides, Source, Sources, Target, add_redirects, check_status,
};
use brightharbor_io::load;
use brightharbor_io::overlay::Overlay;
use clap::{Args, ValueEnum};

use crate::commands::{Report, account_name};
use crate::duration::end_of_day;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change, until_served};
use crate::show::{ChangeReport, Shown};

/// Redirect visitors of a name or path.
#[derive(Debug, Args)]
pub struct Add {
    /// HOSTNAME, HOSTNAME/PATH, or, with --all-of, the target.
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
    /// Everything below the path too (a whole host always is).
    #[arg(long)]
    prefix: bool,
    /// Carry the rest of the path and the query along.
    #[arg(long)]
    keep_path: bool,
    /// For which of the name and its www twin.
    #[arg(long, value_enum, default_value = "both")]
    www: SideArgument,
    /// The day it ends (UTC), as 2026-12-24: `tend` removes it.
    #[arg(long, value_name = "DATE")]
    until: Option<jiff::civil::Date>,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum SideArgument {
    Both,
    With,
    Without,
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
    let sides = match args.www {
        SideArgument::Both => Sides::Both,
        SideArgument::With => Sides::WithWww,
        SideArgument::Without => Sides::WithoutWww,
    };
    let sources = match &args.all_of {
        Some(account) => Sources::AllOf(account_name(account)?),
        None => Sources::One(Source::parse(&args.source, args.prefix).map_err(wrong)?),
    };
    let until = args.until.map(end_of_day).transpose()?;
    let request = AddRedirects { sources, target, status, keep_path: args.keep_path, sides, until };
    let title = match &args.all_of {
        Some(account) => format!("redirect add --all-of {account} {typed}"),
        None => format!("redirect add {} {typed}", args.source.trim()),
    };
    context.block_on(async {
        let (carried, ()) =
            change(context, &title, &args.options, async |overlay, _| Ok((decide(overlay, &request)?, ()))).await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "redirect add", carried }) as Box<dyn Shown>)
    })?
}

/// Loads the sites on a visitor's way as the decision asks for them: a way has an end, or is refused as endless.
fn decide(overlay: &Overlay<'_>, request: &AddRedirects) -> Result<Plan, Error> {
    let mut loaded = load::add_redirects(overlay, request)?;
    loop {
        match add_redirects(request, &loaded, &overlay.settings, &overlay.layout) {
            Err(RedirectRefusal::NotLoaded(host)) => {
                let site = overlay.site_of(&host)?;
                loaded.others.insert(host, site);
            }
            other => return Ok(other?),
        }
    }
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
