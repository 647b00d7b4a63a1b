//! `certificate revoke`: tells the CA that a certificate must not be trusted any more, once a new one is in its place.

use brightharbor_core::acme::RevocationReason;
use brightharbor_core::certificate::read_chain;
use brightharbor_core::site::CertificateSource;
use brightharbor_io::acme::{Session, revoke};
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use super::list::site_of;
use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::secure::{SecureOutcome, Secured, Wanted, secure_as};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Revoke the certificate of a site at the CA. A new one, with a new key, is got and proven first.
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
    let site = site_of(&harbor, &name)?;
    let present = harbor.store.certificate_of(site.main())?;
    let present = present.filter(|certificate| certificate.source == CertificateSource::Ca).ok_or_else(|| {
        Error::refused("nothing-to-revoke", format!("{} has no certificate from the CA", site.main()))
            .advice("one that was bought is revoked where it was bought")
    })?;
    let pem = std::fs::read(present.files.chain()).map_err(|error| {
        Error::refused("file", format!("{}: {error}", present.files.chain().display())).advice("run it as root")
    })?;
    let unreadable = |error| Error::refused("file", format!("{}: {error}", present.files.chain().display()));
    let leaf = read_chain(&pem).map_err(unreadable)?.remove(0);
    drop(harbor);
    let successor = match args.without_successor {
        true => None,
        false => Some(context.block_on(secure_as(context, &site, Wanted::New))??),
    };
    if let Some(secured) = successor.as_ref().filter(|secured| !matches!(secured.outcome, SecureOutcome::Served { .. }))
    {
        let message =
            format!("no new certificate of {} is served, so that the present one is not revoked", secured.site);
        return Err(Error::refused("no-successor", message).advice(format!(
            "see why: brightharbor certificate issue {}; or revoke it all the same with --without-successor",
            secured.site
        )));
    }
    let harbor = context.open()?;
    let ca = harbor.settings.ca_named(present.details.ca.as_deref()).ok_or_else(|| {
        let name = present.details.ca.clone().unwrap_or_default();
        Error::refused("unknown-ca", format!("harbor.toml has no CA `{name}` any more, which the certificate is from"))
            .advice(format!("put it back: [cas.{name}]"))
    })?;
    let session = Session::open(ca, &harbor.layout)
        .map_err(|error| Error::refused("ca-files", error).advice("mend that, then try again"))?;
    context.progress.doing("telling the CA");
    context
        .block_on(revoke(&session, &leaf.der, args.reason.into()))?
        .map_err(|error| Error::refused("ca-refuses", error).advice("the new certificate stays; try again later"))?;
    Ok(Box::new(Revoked { site: site.main().to_string(), until: leaf.not_after.to_string(), successor }))
}

struct Revoked {
    site: String,
    /// When the revoked one would have run out.
    until: String,
    successor: Option<Secured>,
}

impl Shown for Revoked {
    fn human(&self, page: &mut Page) {
        self.successor.iter().for_each(|secured| human::secured(page, secured));
        page.hanging("", &format!("The former certificate of {}, until {}, is revoked.", self.site, self.until));
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate revoke",
            "site": self.site,
            "revoked_until": self.until,
            "successor": self.successor.as_ref().map(json::SecuredDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
