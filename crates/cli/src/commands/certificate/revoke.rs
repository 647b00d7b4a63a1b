//! `certificate revoke`: tells the CA that a certificate must not be trusted any more, once a new one is in its place.

use brightharbor_core::acme::RevocationReason;
use brightharbor_core::certificate::Revocation;
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::Hostname;
use brightharbor_io::acme::has_account;
use brightharbor_io::harbor::Harbor;
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use super::list::site_of;
use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::revocations::{Revoked, carry_through, foresee, tell};
use crate::run::{Context, Decision, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Revoke the certificate of a site at the CA. A new one, with a new key, is got and proven first, for the site and for
/// whoever shares it; if something comes in between, `tend` goes on with it.
#[derive(Debug, Args)]
pub struct Revoke {
    /// A hostname of the site.
    hostname: String,
    /// Why.
    #[arg(long, value_enum, default_value = "unspecified")]
    reason: ReasonArgument,
    /// Revoke it although no new one can be had: visitors are warned from then on.
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
    // One that was begun is gone on with: what the site has by now may be its successor.
    let revocation = match harbor.store.revocation_of(&main_of(&harbor, &name)?)? {
        Some(begun) => match args.reason.into() {
            RevocationReason::Unspecified => begun,
            reason => Revocation { reason, ..begun },
        },
        None => of_present(&harbor, &name, args.reason.into())?,
    };
    let ca = &revocation.ca;
    if harbor.settings.ca_named(Some(ca)).is_none() {
        let message = format!("harbor.toml has no CA `{ca}` any more, which the certificate is from");
        return Err(Error::refused("unknown-ca", message).advice(format!("put it back: [cas.{ca}]")));
    }
    has_account(&harbor.settings, &harbor.layout, ca)?;
    drop(harbor);
    let alone =
        |changed| Revoked { revocation: revocation.clone(), successor: None, sites: vec![], services: vec![], changed };
    let revoked = match (args.without_successor, args.options.dry_run) {
        (true, _) => alone(context.block_on(tell(context, &revocation, &args.options))??),
        (false, true) => alone(context.block_on(foresee(context, &revocation))??),
        (false, false) => {
            context.block_on(remember(context, &revocation, &args.options))??;
            // Asked once: what is remembered would be gone on with by the timer all the same.
            let yes = ChangeOptions { dry_run: false, yes: true };
            context.block_on(carry_through(context, &revocation, &yes))??
        }
    };
    Ok(Box::new(Shows(revoked)))
}

/// The main name of the site; the name itself, if it is not attached any more.
fn main_of(harbor: &Harbor, name: &Hostname) -> Result<Hostname, Error> {
    Ok(harbor.store.site_of(name)?.map_or_else(|| name.clone(), |site| site.main().clone()))
}

fn of_present(harbor: &Harbor, name: &Hostname, reason: RevocationReason) -> Result<Revocation, Error> {
    let site = site_of(harbor, name)?;
    let present = harbor.store.certificate_of(site.main())?;
    present.and_then(|certificate| Revocation::of(&certificate, reason)).ok_or_else(|| {
        Error::refused("nothing-to-revoke", format!("{} has no certificate from the CA", site.main())).advice(
            match &site.rules.certificate.from {
                Some(from) => format!("it shares that of {from}: brightharbor certificate revoke {from}"),
                None => "one that was bought is revoked where it was bought".into(),
            },
        )
    })
}

/// So that it is gone on with, whatever comes in between.
async fn remember(context: &Context, revocation: &Revocation, options: &ChangeOptions) -> Result<(), Error> {
    let title = format!("remember to revoke the certificate of {}", revocation.site);
    change(context, &title, options, async |harbor, _| {
        let mut set = ChangeSet::new(&title);
        if !harbor.store.revocations()?.contains(revocation) {
            set.inventory(InventoryChange::RememberRevocation(revocation.clone()));
        }
        Ok(Decision { set, said: vec![] })
    })
    .await?;
    Ok(())
}

struct Shows(Revoked);

impl Shown for Shows {
    fn human(&self, page: &mut Page) {
        if self.0.changed.entry.is_none() {
            return human::change_report(page, &self.0.changed);
        }
        human::revoked(page, &self.0);
        if self.0.is_still_shown() {
            page.hanging("next: ", "`brightharbor tend` gets another one as soon as it can; or detach the site");
        }
    }

    fn json(&self) -> Value {
        let mut document = json!(json::RevokedDocument::from(&self.0));
        document["command"] = "certificate revoke".into();
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
