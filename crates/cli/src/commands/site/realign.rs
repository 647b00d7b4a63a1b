//! `site realign`: site files that are not as they would be written now, and writing them again.

use std::collections::BTreeSet;

use brightharbor_core::name::Host;
use brightharbor_core::site::{Site, SiteFileState, SiteOutOfStep, realign_sites};
use brightharbor_io::load;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_site, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change, until_served};
use crate::show::human::{Page, change_report};
use crate::show::{Shown, counted, json};

/// Write site files again that are missing, were edited by hand, or differ after a change of harbor.toml. Without
/// hostnames: show which do.
#[derive(Debug, Args)]
pub struct Realign {
    /// Of these sites alone.
    #[arg(conflicts_with = "all", value_name = "HOSTNAME")]
    hostnames: Vec<String>,
    /// Of all sites.
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Realign, context: &Context) -> Report {
    let hosts = args.hostnames.iter().map(|typed| host(typed)).collect::<Result<Vec<Host>, _>>()?;
    let chosen = args.all || !hosts.is_empty();
    let options = ChangeOptions { dry_run: args.options.dry_run || !chosen, ..args.options.clone() };
    context.block_on(async {
        let (carried, (found, sites)) = change(context, "site realign", &options, async |overlay, _| {
            let sites: Vec<Site> = match &hosts[..] {
                [] => overlay.store.sites(None)?,
                hosts => hosts.iter().map(|host| find_site(overlay, host)).collect::<Result<_, _>>()?,
            };
            let with_own = |(site, file): (Site, _)| {
                let own = load::own_directives(&overlay.settings, &overlay.layout, site.main())?;
                Ok::<_, Error>((site, own, file))
            };
            let sites = load::sites_with_files(overlay, sites)?.into_iter().map(with_own);
            let sites = sites.collect::<Result<Vec<_>, _>>()?;
            let (settings, layout) = (&overlay.settings, &overlay.layout);
            let of_sites: Vec<Site> = sites.iter().map(|(site, ..)| site.clone()).collect();
            let pools = load::pools_of(overlay, &of_sites)?;
            let (plan, found) = realign_sites(&sites, &pools, settings, layout);
            Ok((plan, (found, sites.len())))
        })
        .await?;
        until_served(context, &carried).await?;
        let report = Realigned { carried, found, sites, chosen };
        Ok::<_, crate::error::Error>(Box::new(report) as Box<dyn Shown>)
    })?
}

struct Realigned {
    carried: Carried,
    found: Vec<SiteOutOfStep>,
    /// How many were looked at.
    sites: usize,
    chosen: bool,
}

fn state_word(state: SiteFileState) -> &'static str {
    match state {
        SiteFileState::Missing => "missing",
        SiteFileState::Edited => "edited",
        SiteFileState::Outdated => "outdated",
        SiteFileState::OwnChanged => "own-changed",
    }
}

impl Shown for Realigned {
    fn human(&self, page: &mut Page) {
        // A site and the pool of its account are two files.
        let differing: BTreeSet<&Host> = self.found.iter().map(|one| &one.site).collect();
        let (differ, sites) = (differing.len(), counted(self.sites, "site"));
        page.heading(&match (self.carried.entry.is_some(), differ) {
            (_, 0) => format!("All site files are as they would be written now ({sites} checked)."),
            (true, _) => format!("Wrote the files of {differ} of {sites}."),
            (false, _) => format!("The files of {differ} of {sites} are not as they would be written now."),
        });
        for SiteOutOfStep { site, path, state } in &self.found {
            let what = match state {
                SiteFileState::Missing => "is missing",
                SiteFileState::Edited => "was edited by hand",
                SiteFileState::Outdated => "is not what harbor.toml gives now",
                SiteFileState::OwnChanged => "does not have your own directives as they are now",
            };
            page.hanging("  ", &format!("{site}: {} {what}", path.display()));
        }
        if self.carried.entry.is_none() && differ > 0 {
            page.blank();
            if self.chosen {
                return change_report(page, &self.carried);
            }
            let how = "to write them: brightharbor site realign --all, or with hostnames (--dry-run shows the diff)";
            page.hanging("Nothing was changed; ", how);
        }
    }

    fn json(&self) -> Value {
        let site = |one: &SiteOutOfStep| json!({ "site": one.site, "file": one.path.display().to_string(), "state": state_word(one.state) });
        json!({
            "command": "site realign",
            "carried_out": self.carried.entry.is_some(),
            "change": json::ChangeDocument::from(&self.carried),
            "looked_at": self.sites,
            "sites": self.found.iter().map(site).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        match (self.chosen, self.found.len()) {
            (false, 1..) => Exit::Waits,
            (true, _) if self.carried.entry.is_none() && !self.carried.missing.is_empty() => Exit::Refused,
            _ => Exit::Done,
        }
    }
}
