//! `certificate install`: brings certificates to where else they are needed: the services of harbor.toml, or another
//! site, as `tend` does after each renewal; and puts a former one of a site back in place.

use brightharbor_core::certificate::securing::{Secured, Wanted};
use brightharbor_core::certificate::{
    Bought, CertificateRefusal, CertificateRemark, ServiceDue, assemble, import_certificate, place_service, share,
};
use brightharbor_core::change::Plan;
use brightharbor_core::name::Host;
use brightharbor_io::keys::public_half;
use brightharbor_io::load;
use brightharbor_io::probe::staple_in_place;
use brightharbor_io::secure::{bring, secure, services, shared_chain, verify_installed};
use brightharbor_io::server::await_fingerprint;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_site, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{self, Page};
use crate::show::json::BroughtDocument;
use crate::show::words::service_problem;
use crate::show::{ChangeReport, Shown, json};

/// Bring certificates to where else they are needed: to services such as a mail server, as [services] in harbor.toml
/// says, or to another site whose names they cover. Renewals follow automatically.
#[derive(Debug, Args)]
pub struct Install {
    /// The service, by its name in harbor.toml; all of them, if nothing is given.
    #[arg(long, value_name = "NAME", conflicts_with_all = ["site", "from"])]
    service: Option<String>,
    /// A hostname of the site that is to be served with the certificate of another.
    #[arg(long, value_name = "HOSTNAME")]
    site: Option<String>,
    /// A hostname of the site whose certificate that is.
    #[arg(long, value_name = "HOSTNAME", requires = "site")]
    from: Option<String>,
    /// Put a former certificate of the site back in place, by its name in `certificate list --former`.
    #[arg(long, value_name = "NAME", requires = "site", conflicts_with = "from")]
    former: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Install, context: &Context) -> Report {
    if let (Some(site), Some(from)) = (&args.site, &args.from) {
        let (site, from) = (host(site)?, host(from)?);
        return context.block_on(take_share(context, &site, &from, &args.options))?;
    }
    if let (Some(site), Some(former)) = (&args.site, &args.former) {
        return context.block_on(put_back(context, &host(site)?, former, &args.options))?;
    }
    if args.site.is_some() {
        return Err(Error::wrong_use("--site alone says nothing of a certificate")
            .advice("give the site whose certificate it takes, --from, or a former one of its own, --former"));
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
        let carried = context.block_on(foresee(context, only, &args.options))??;
        return Ok(Box::new(ChangeReport { command: "certificate install", carried }));
    }
    let brought = context.block_on(context.work(async |door| bring(door, only).await))??;
    Ok(Box::new(Installed { brought: brought.iter().map(BroughtDocument::from).collect(), shared: None }))
}

/// What would be brought to each service.
async fn foresee(context: &Context, only: Option<&str>, options: &ChangeOptions) -> Result<Carried, Error> {
    let (carried, ()) = change(context, "certificate install", options, async |overlay, now| {
        let mut plan = Plan::new("certificate install");
        for (service, hostname, due) in services(overlay, only, now)? {
            match due {
                ServiceDue::Nothing => plan.remark(CertificateRemark::ServiceUpToDate { service, hostname }),
                ServiceDue::Problem(problem) => {
                    let reason = service_problem(&problem, &hostname);
                    plan.remark(CertificateRemark::ServiceSkipped { service, reason });
                }
                due => plan.extend(place_service(&service, due)),
            }
        }
        Ok((plan, ()))
    })
    .await?;
    Ok(carried)
}

/// Keeps with the site whose certificate it takes, then installs and verifies it.
async fn take_share(context: &Context, site: &Host, from: &Host, options: &ChangeOptions) -> Report {
    let title = format!("certificate install --site {site} --from {from}");
    let (carried, kept) = change(context, &title, options, async |overlay, _| {
        let (before, source) = (find_site(overlay, site)?, find_site(overlay, from)?);
        let plan = share(&before, &source, shared_chain(&source).as_deref())?;
        let mut kept = before;
        kept.rules.certificate.from = Some(source.main().clone());
        Ok((plan, kept))
    })
    .await?;
    if options.dry_run {
        return Ok(Box::new(ChangeReport { command: "certificate install", carried }));
    }
    let secured = context.work(async |door| secure(door, &kept, Wanted::Enough).await).await?;
    Ok(Box::new(Installed { brought: vec![], shared: Some(secured) }))
}

/// A former certificate back in place, if it does there.
async fn put_back(context: &Context, site: &Host, name: &str, options: &ChangeOptions) -> Report {
    let title = format!("certificate install --site {site} --former {name}");
    let (carried, main) = change(context, &title, options, async |overlay, now| {
        let site = find_site(overlay, site)?;
        let all = load::former_of(overlay, std::slice::from_ref(&site))?;
        let Some((_, found)) = all.into_iter().find(|(_, found)| found.name == name) else {
            let message = format!("{} has no former certificate `{}`", site.main(), name.escape_debug());
            return Err(Error::refused("no-former", message)
                .advice("see which ones there are: brightharbor certificate list --former"));
        };
        let (_, key) = load::chain_and_key(&found.files()).map_err(CertificateRefusal::Key)?;
        let public = public_half(&key).map_err(|error| CertificateRefusal::Key(error.to_string()))?;
        let made = assemble(found.chain.clone(), &public)
            .map_err(|error| CertificateRefusal::Unfit { site: site.main().clone(), error })?;
        let staple = staple_in_place(&found.files(), &made.chain_pem(), overlay).await;
        let bought = Bought {
            made,
            key_pem: &key,
            judged: found.judged,
            untrusted: false,
            found: &[],
            source: found.source,
            revoked: found.revoked,
            staple,
        };
        let receiving = load::receiving(overlay, site.clone())?;
        let plan = import_certificate(&bought, &receiving, &overlay.settings, &overlay.layout, now)?;
        Ok((plan, site.main().clone()))
    })
    .await?;
    if carried.entry.is_none() {
        return Ok(Box::new(ChangeReport { command: "certificate install", carried }));
    }
    let harbor = context.open()?;
    if let Some(site) = harbor.store.site_of(&main)? {
        await_fingerprint(&harbor.settings, &site, carried.took).await;
    }
    drop(harbor);
    let secured = context.work(async |door| verify_installed(door, &main).await).await?;
    Ok(Box::new(Installed { brought: vec![], shared: Some(secured) }))
}

struct Installed {
    brought: Vec<BroughtDocument>,
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
        let all_shown = self.shared.iter().all(Secured::is_served);
        if !all_shown || self.brought.iter().any(|brought| brought.problem.is_some()) {
            Exit::Fault
        } else {
            Exit::Done
        }
    }
}
