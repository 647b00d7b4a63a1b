//! `redirect add`: from a name or path to somewhere else.

use brightharbor_core::account::{AccountName, Counted};
use brightharbor_core::change::ChangeSet;
use brightharbor_core::redirect::{AddRefused, Redirect, RedirectError, Sides, Source, Target, add, check_status};
use brightharbor_core::site::Site;
use brightharbor_io::harbor::Harbor;
use clap::{Args, ValueEnum};

use super::{ports, site_of_source};
use crate::commands::Report;
use crate::commands::plan::refuse_beyond;
use crate::duration::end_of_day;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;
use crate::site_change::{await_served, site_change};

/// Send visitors of a name or path somewhere else.
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
    /// For good (301): browsers keep it for a long time, even after it was removed. By default for now (302).
    #[arg(long, conflicts_with = "status")]
    permanent: bool,
    /// The status itself: 301 or 308 for good, 302 or 307 for now; 307 and 308 keep a form's data.
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
    let until = args.until.map(end_of_day).transpose()?;
    let redirect =
        |source| Redirect { source, target: target.clone(), status, keep_path: args.keep_path, sides, until };
    let title = match &args.all_of {
        Some(account) => format!("redirect add --all-of {account} {typed}"),
        None => format!("redirect add {} {typed}", args.source.trim()),
    };
    let source = match &args.all_of {
        Some(_) => None,
        None => Some(Source::parse(&args.source, args.prefix).map_err(wrong)?),
    };
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let sites: Vec<(Site, Source)> = match (&source, &args.all_of) {
            (Some(source), _) => vec![(site_of_source(harbor, source)?, source.clone())],
            (None, account) => of_account(harbor, account.as_deref().unwrap_or_default())?,
        };
        let mut set = ChangeSet::new(&title);
        let mut said = Vec::new();
        if let Some((site, _)) = sites.first() {
            refuse_beyond(harbor, &site.account, Counted::Redirects, sites.len() as u32)?;
        }
        for (site, source) in sites {
            let redirect = redirect(source);
            let (after, risks) =
                add(&site, &redirect, ports(harbor), |host| harbor.store.site_of(host))?.map_err(refused)?;
            site_change(harbor, &site, &after, &args.options, &mut set)?;
            said.push(words(&redirect));
            said.extend(risks.into_iter().map(|risk| format!("risk: {risk}")));
        }
        Ok(Decision { set, said })
    }))??;
    await_served(context, &changed)?;
    Ok(Box::new(ChangeReport { command: "redirect add", changed }))
}

fn of_account(harbor: &Harbor, account: &str) -> Result<Vec<(Site, Source)>, Error> {
    let name = AccountName::parse(account).map_err(Error::wrong_use)?;
    let sites = harbor.store.sites(Some(&name))?;
    if sites.is_empty() {
        return Err(Error::refused("no-sites", format!("the account {name} has no sites"))
            .advice("see `brightharbor site list`"));
    }
    let source = |site: Site| {
        let host = site.main().without_www().unwrap_or_else(|| site.main().clone());
        (site, Source { host, path: "/".into(), prefix: true })
    };
    Ok(sites.into_iter().map(source).collect())
}

/// The first moment after the day.
fn words(redirect: &Redirect) -> String {
    let lasting = match redirect.status {
        301 | 308 => "for good: browsers keep it even after it was removed",
        _ => "for now: browsers ask again each time",
    };
    let kept = if redirect.keep_path { " with the rest of the path" } else { "" };
    let source = super::source_words(redirect);
    format!("{source} is sent to {}{kept}, {lasting} ({})", redirect.target.text(), redirect.status)
}

fn advice(error: &RedirectError) -> &'static str {
    match error {
        RedirectError::NoScheme(_) => "give the whole address, as https://quay.example/boats, or a path as /boats",
        RedirectError::NoRoom(_) => "leave --keep-path out, or give a target without query and fragment",
        RedirectError::Reserved(_) => "choose another path",
        RedirectError::Query(_) => "leave the query out",
        _ => "mend it, then try again",
    }
}

fn refused(error: AddRefused) -> Error {
    let (code, advice) = match &error {
        AddRefused::Loop(_) => {
            ("redirect-loop", "choose another target, or remove one of the others first".to_string())
        }
        AddRefused::Endless(_) => {
            ("redirect-endless", "leave --keep-path out, or choose a target outside the path".into())
        }
        AddRefused::Present { source_text, .. } => {
            ("redirect-present", format!("remove it first: brightharbor redirect remove {source_text}"))
        }
        AddRefused::NoHostname(_) => ("no-hostname", "see the site's hostnames: brightharbor site list".into()),
    };
    Error::refused(code, &error).advice(advice)
}
