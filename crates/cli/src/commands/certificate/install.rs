//! `certificate install`: brings certificates to where else they are needed: the services of harbor.toml, or another
//! site. `tend` does the same after each renewal.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_core::site::Site;
use clap::Args;
use serde_json::{Value, json};

use super::list::site_of;
use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::secure::{SecureOutcome, Secured, secure, shareable};
use crate::services::{Brought, bring, foresee};
use crate::show::human::{self, Page};
use crate::show::{ChangeReport, Shown, json};

/// Bring certificates to where else they are needed: to services such as a mail server, as [services] in harbor.toml
/// says, or to another site whose names they cover. Renewals follow by themselves.
#[derive(Debug, Args)]
pub struct Install {
    /// The service, by its name in harbor.toml; all of them, if nothing is given.
    #[arg(long, value_name = "NAME", conflicts_with_all = ["site", "from"])]
    service: Option<String>,
    /// A hostname of the site that is to be served with the certificate of another.
    #[arg(long, value_name = "HOSTNAME", requires = "from")]
    site: Option<String>,
    /// A hostname of the site whose certificate that is.
    #[arg(long, value_name = "HOSTNAME", requires = "site")]
    from: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Install, context: &Context) -> Report {
    if let (Some(site), Some(from)) = (&args.site, &args.from) {
        let (site, from) = (host(site)?, host(from)?);
        return context.block_on(share(context, &site, &from, &args.options))?;
    }
    let harbor = context.open()?;
    let known = &harbor.settings.services;
    if let Some(name) = args.service.as_deref().filter(|name| !known.contains_key(*name)) {
        return Err(Error::refused("unknown-service", format!("harbor.toml has no service `{}`", name.escape_debug()))
            .advice(format!("add it: [services.{name}] with hostname, folder, and reload")));
    }
    if known.is_empty() {
        return Err(Error::refused("unknown-service", "harbor.toml names no service")
            .advice("add one: [services.NAME] with hostname, folder, and reload"));
    }
    drop(harbor);
    let only = args.service.as_deref();
    if args.options.dry_run {
        let changed = context.block_on(foresee(context, only))??;
        return Ok(Box::new(ChangeReport { command: "certificate install", changed }));
    }
    let brought = context.block_on(bring(context, only, &args.options))??;
    Ok(Box::new(Installed { brought, shared: None }))
}

/// Keeps with the site whose certificate it takes, then installs and proves it.
async fn share(context: &Context, site: &Hostname, from: &Hostname, options: &ChangeOptions) -> Report {
    let title = format!("certificate install --site {site} --from {from}");
    let mut kept: Option<Site> = None;
    let changed = change(context, &title, options, async |harbor, _| {
        let (before, source) = (site_of(harbor, site)?, site_of(harbor, from)?);
        if before.main() == source.main() {
            return Err(Error::wrong_use(format!("{site} and {from} are one site")));
        }
        if let Some(further) = &source.rules.certificate.from {
            return Err(Error::refused("shared-already", format!("{from} itself shares the certificate of {further}"))
                .advice(format!("give --from {further}")));
        }
        shareable(harbor, &before, source.main())?;
        let before_main = before.main().clone();
        let mut after = before.clone();
        after.rules.certificate.from = Some(source.main().clone());
        kept = Some(after.clone());
        let mut set = ChangeSet::new(&title);
        if after != before {
            set.inventory(InventoryChange::ReplaceSite { before, after });
        }
        let said = vec![format!("{} is served with the certificate of {}", before_main, source.main())];
        Ok(Decision { set, said })
    })
    .await?;
    if options.dry_run {
        return Ok(Box::new(ChangeReport { command: "certificate install", changed }));
    }
    let site = kept.ok_or_else(|| Error::refused("inventory", "the site was lost"))?;
    let secured = secure(context, &site).await?;
    Ok(Box::new(Installed { brought: vec![], shared: Some(secured) }))
}

struct Installed {
    brought: Vec<Brought>,
    shared: Option<Secured>,
}

impl Shown for Installed {
    fn human(&self, page: &mut Page) {
        self.shared.iter().for_each(|secured| human::secured(page, secured));
        self.brought.iter().for_each(|brought| human::brought(page, brought));
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate install",
            "services": self.brought,
            "certificate": self.shared.as_ref().map(json::SecuredDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        let shown = |secured: &Secured| matches!(secured.outcome, SecureOutcome::Served { .. });
        let all_shown = self.shared.iter().all(shown);
        if !all_shown || self.brought.iter().any(|brought| brought.problem.is_some()) {
            Exit::Fault
        } else {
            Exit::Done
        }
    }
}
