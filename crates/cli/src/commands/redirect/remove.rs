//! `redirect remove`: the page itself again.

use brightharbor_core::change::ChangeSet;
use brightharbor_core::redirect::{Redirect, Source};
use clap::Args;

use super::{named, site_of_source};
use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;
use crate::site_change::{await_served, site_change};

/// Remove a redirect.
#[derive(Debug, Args)]
pub struct Remove {
    /// HOSTNAME or HOSTNAME/PATH, as in `redirect list`.
    source: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Remove, context: &Context) -> Report {
    let source = Source::parse(&args.source, false).map_err(Error::wrong_use)?;
    let title = format!("redirect remove {source}");
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let site = site_of_source(harbor, &source)?;
        let gone: Vec<Redirect> = named(&site, &source).into_iter().cloned().collect();
        if gone.is_empty() {
            return Err(Error::refused("no-redirect", format!("{source} is not redirected"))
                .advice("see `brightharbor redirect list`"));
        }
        let mut after = site.clone();
        after.rules.redirects.retain(|redirect| !gone.contains(redirect));
        let mut set = ChangeSet::new(&title);
        site_change(harbor, &site, &after, &args.options, &mut set)?;
        let lasting = gone.iter().any(|redirect| matches!(redirect.status, 301 | 308));
        let mut said = vec![format!("{source} is not redirected any more")];
        if lasting {
            said.push("it was for good: browsers that were there may go on being sent until they forget it".into());
        }
        Ok(Decision { set, said })
    }))??;
    await_served(context, &changed)?;
    Ok(Box::new(ChangeReport { command: "redirect remove", changed }))
}
