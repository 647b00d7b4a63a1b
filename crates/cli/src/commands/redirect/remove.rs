//! `redirect remove`: the page itself again.

use brightharbor_core::redirect::{Source, remove_redirects};
use brightharbor_io::load;
use clap::Args;

use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, change, until_served};
use crate::show::{ChangeReport, Shown};

/// Remove a redirect.
#[derive(Debug, Args)]
pub struct Remove {
    /// HOSTNAME, HOSTNAME/ or HOSTNAME/PATH, as in `redirect list`.
    source: String,
    /// For the twin of the hostname too.
    #[arg(long)]
    with_twin: bool,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Remove, context: &Context) -> Report {
    let source = Source::parse(&args.source, false).map_err(Error::wrong_use)?;
    let title = format!("redirect remove {source}");
    context.block_on(async {
        let (carried, ()) = change(context, &title, &args.options, async |overlay, _| {
            let site = load::site_of_source(overlay, &source)?;
            Ok((remove_redirects(&source, args.with_twin, site.as_ref(), &overlay.settings, &overlay.layout)?, ()))
        })
        .await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "redirect remove", carried }) as Box<dyn Shown>)
    })?
}
