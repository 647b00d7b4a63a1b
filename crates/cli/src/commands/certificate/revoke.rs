//! `certificate revoke`: tells the CA that a certificate must not be trusted any more, once a new one is in its place.

use brightharbor_core::acme::RevocationReason;
use brightharbor_core::certificate::revocation::{is_still_shown, wanted};
use brightharbor_core::certificate::securing::Secured;
use brightharbor_core::certificate::{CertificateRemark, Revocation};
use brightharbor_io::acme::has_account;
use brightharbor_io::secure::{Revoked, carry_through};
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{self, Page};
use crate::show::json::BroughtDocument;
use crate::show::{Shown, json};

/// Revoke the certificate of a site at the CA. A new one, with a new key, is issued and verified first, for the site
/// and for whoever shares it; if something comes in between, `tend` continues.
#[derive(Debug, Args)]
pub struct Revoke {
    /// A hostname of the site.
    hostname: String,
    /// Why.
    #[arg(long, value_enum, default_value = "unspecified")]
    reason: ReasonArgument,
    /// Revoke it even without a new one: visitors are warned from then on.
    #[arg(long)]
    without_successor: bool,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum ReasonArgument {
    Unspecified,
    /// Somebody else has, or may have, the key.
    KeyCompromise,
    AffiliationChanged,
    Superseded,
    CessationOfOperation,
}

impl From<ReasonArgument> for RevocationReason {
    fn from(typed: ReasonArgument) -> RevocationReason {
        match typed {
            ReasonArgument::Unspecified => RevocationReason::Unspecified,
            ReasonArgument::KeyCompromise => RevocationReason::KeyCompromise,
            ReasonArgument::AffiliationChanged => RevocationReason::AffiliationChanged,
            ReasonArgument::Superseded => RevocationReason::Superseded,
            ReasonArgument::CessationOfOperation => RevocationReason::CessationOfOperation,
        }
    }
}

pub fn run(args: &Revoke, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let harbor = context.open()?;
    let site = harbor.store.site_of(&name)?;
    let main = site.as_ref().map_or(&name, |site| site.main());
    let (begun, present) = (harbor.store.revocation_of(main)?, harbor.store.certificate_of(main)?);
    let revocation = wanted(begun.as_ref(), site.as_ref(), present.as_ref(), &name, args.reason.into())?;
    let ca = &revocation.ca;
    if harbor.settings.ca_named(Some(ca)).is_none() {
        let message = format!("harbor.toml no longer has the CA `{ca}` that issued the certificate");
        return Err(Error::refused("unknown-ca", message).advice(format!("put it back: [cas.{ca}]")));
    }
    has_account(&harbor.settings, &harbor.layout, ca)?;
    drop(harbor);
    context.block_on(revoke(args, context, &revocation))?
}

async fn revoke(args: &Revoke, context: &Context, revocation: &Revocation) -> Report {
    let alone = |carried: Carried| Shows {
        revocation: revocation.clone(),
        successor: None,
        sites: vec![],
        services: vec![],
        carried,
    };
    let shows = match (args.without_successor, args.options.dry_run) {
        (true, _) | (false, true) => alone(tell(context, revocation, args).await?),
        (false, false) => {
            let title = format!("remember to revoke the certificate of {}", revocation.site);
            change(context, &title, &args.options, async |overlay, _| {
                Ok((revocation.remember(&overlay.store.revocations()?), ()))
            })
            .await?;
            // Asked once: what is remembered would be gone on with by the timer all the same.
            let revoked = context.work(async |door| carry_through(door, revocation).await).await?;
            Shows::from(revoked)
        }
    };
    Ok(Box::new(shows))
}

/// Tells the CA at once; or shows what it would be told, and that a successor comes first.
async fn tell(context: &Context, revocation: &Revocation, args: &Revoke) -> Result<Carried, Error> {
    let (carried, ()) = change(context, &revocation.title(), &args.options, async |overlay, _| {
        has_account(&overlay.settings, &overlay.layout, &revocation.ca)?;
        let present = overlay.store.certificate_of(&revocation.site)?;
        let remembered = overlay.store.revocations()?.iter().any(|other| other.files == revocation.files);
        let present = present.filter(|_| args.without_successor);
        let mut plan = revocation.tell(present.as_ref(), remembered);
        if !args.without_successor {
            plan.remark(CertificateRemark::SuccessorFirst { site: revocation.site.clone() });
        }
        Ok((plan, ()))
    })
    .await?;
    Ok(carried)
}

struct Shows {
    revocation: Revocation,
    successor: Option<Secured>,
    /// The sites that share the certificate, which have its successor now.
    sites: Vec<Secured>,
    services: Vec<BroughtDocument>,
    carried: Carried,
}

impl From<Revoked> for Shows {
    fn from(revoked: Revoked) -> Self {
        let Revoked { revocation, successor, sites, services, changed } = revoked;
        let services = services.iter().map(BroughtDocument::from).collect();
        let (plan, entry, took) = (changed.plan, changed.entry, changed.took);
        Self { revocation, successor, sites, services, carried: Carried { plan, entry, took, missing: vec![] } }
    }
}

impl Shows {
    fn is_still_shown(&self) -> bool {
        is_still_shown(&self.carried.plan)
    }
}

impl Shown for Shows {
    fn human(&self, page: &mut Page) {
        if self.carried.entry.is_none() {
            return human::change_report(page, &self.carried);
        }
        self.successor.iter().chain(&self.sites).for_each(|one| human::secured(page, one));
        self.services.iter().for_each(|one| human::brought(page, one));
        human::revoked(page, &self.revocation, self.is_still_shown());
        if self.is_still_shown() {
            page.hanging("next: ", "`brightharbor tend` obtains another one as soon as possible; or detach the site");
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate revoke",
            "site": self.revocation.site,
            "carried_out": self.carried.entry.is_some(),
            "revoked_until": self.revocation.not_after.to_string(),
            "successor": self.successor.as_ref().map(json::SecuredDocument::from),
            "followed": self.sites.iter().map(json::SecuredDocument::from).collect::<Vec<_>>(),
            "services": self.services,
            "change": json::ChangeDocument::from(&self.carried),
        })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(Exit::Done)
    }
}
