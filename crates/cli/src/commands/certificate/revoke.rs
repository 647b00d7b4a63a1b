//! `certificate revoke`: tells the CA that a certificate must not be trusted any more, once a new one is in its place.

use brightharbor_core::acme::RevocationReason;
use brightharbor_core::change::{CaErrand, Change, ChangeSet, InventoryChange, ToldToCa};
use brightharbor_core::site::{Certificate, CertificateSource, CertificateState};
use brightharbor_io::acme::has_account;
use clap::{Args, ValueEnum};
use serde_json::{Value, json};

use super::list::site_of;
use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
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
    let site = site_of(&harbor, &name)?;
    let present = harbor.store.certificate_of(site.main())?;
    let present = present.filter(|certificate| certificate.source == CertificateSource::Ca).ok_or_else(|| {
        Error::refused("nothing-to-revoke", format!("{} has no certificate from the CA", site.main()))
            .advice("one that was bought is revoked where it was bought")
    })?;
    let ca = present.details.ca.clone().unwrap_or_else(|| "default".into());
    if harbor.settings.ca_named(Some(&ca)).is_none() {
        let message = format!("harbor.toml has no CA `{ca}` any more, which the certificate is from");
        return Err(Error::refused("unknown-ca", message).advice(format!("put it back: [cas.{ca}]")));
    }
    drop(harbor);
    let successor = match args.without_successor || args.options.dry_run {
        true => None,
        false => Some(context.block_on(secure_as(context, &site, Wanted::NewKey))??),
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
    let title = format!("certificate revoke {}", site.main());
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        has_account(&harbor.settings, &harbor.layout, &ca)?;
        let mut set = ChangeSet::new(&title);
        let (site, chain, reason) = (site.main().clone(), present.files.chain(), args.reason.into());
        set.changes.push(Change::TellCa(CaErrand { ca, told: ToldToCa::Revocation { site, chain, reason } }));
        let mut said = Vec::new();
        if args.without_successor {
            let revoked = Certificate { state: CertificateState::Revoked, ..present.clone() };
            set.inventory(InventoryChange::RecordCertificate(revoked));
        } else if args.options.dry_run {
            said.push("before that, a new certificate with a new key is got, installed and proven".into());
        }
        Ok(Decision { set, said })
    }))??;
    Ok(Box::new(Revoked { site: site.main().to_string(), until: present.not_after.to_string(), successor, changed }))
}

struct Revoked {
    site: String,
    /// When the revoked one would have run out.
    until: String,
    successor: Option<Secured>,
    changed: Changed,
}

impl Shown for Revoked {
    fn human(&self, page: &mut Page) {
        if self.changed.entry.is_none() {
            return human::change_report(page, &self.changed);
        }
        self.successor.iter().for_each(|secured| human::secured(page, secured));
        let former = if self.successor.is_some() { "former certificate" } else { "certificate" };
        page.hanging("", &format!("The {former} of {}, until {}, is revoked.", self.site, self.until));
        if self.successor.is_none() {
            page.hanging("next: ", "`brightharbor tend` gets another one as soon as it can; or detach the site");
        }
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate revoke",
            "site": self.site,
            "carried_out": self.changed.entry.is_some(),
            "revoked_until": self.until,
            "successor": self.successor.as_ref().map(json::SecuredDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
