//! `certificate self-sign`: a stop-gap, until a certificate comes that visitors' programs trust.

use brightharbor_core::certificate::{CertificateDetails, CertificateSource};
use brightharbor_core::certificate::{Install, install, read_chain};
use brightharbor_io::keys::{new_key_pem, self_signed};
use clap::Args;
use serde_json::{Value, json};

use super::list::site_of;
use crate::commands::{Report, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::secure::{Secured, prove_installed};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};
use crate::site_change::{await_served, own_file};

/// Sign a certificate with its own key, as a stop-gap. Visitors are warned of it; http is not sent to https.
#[derive(Debug, Args)]
pub struct SelfSign {
    /// A hostname of the site.
    hostname: String,
    /// For how many days.
    #[arg(long, value_name = "DAYS", default_value = "30", value_parser = clap::value_parser!(u16).range(1..=397))]
    days: u16,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &SelfSign, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    let unmade = |error| Error::refused("key", error).advice("try again; nothing was kept");
    let title = format!("certificate self-sign {name}");
    let mut main = name.clone();
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let site = site_of(harbor, &name)?;
        main = site.main().clone();
        let present = harbor.store.certificate_of(site.main())?;
        if let Some(better) = present.filter(|c| c.source != CertificateSource::SelfSigned && c.not_after > now) {
            let message = format!(
                "{} has a certificate from elsewhere, until {}",
                site.main(),
                better.not_after.strftime("%Y-%m-%d")
            );
            return Err(
                Error::refused("has-better", message).advice("a stop-gap would take its place; leave it as it is")
            );
        }
        let key_pem = new_key_pem().map_err(unmade)?;
        let chain_pem = self_signed(&key_pem, &site.hostnames, now, args.days).map_err(unmade)?;
        let facts = read_chain(chain_pem.as_bytes()).map_err(|error| Error::refused("key", error))?;
        let wanted = Install {
            details: CertificateDetails::default(),
            chain_pem: &chain_pem,
            key_pem: &key_pem,
            names: site.hostnames.clone(),
            not_before: facts[0].not_before,
            not_after: facts[0].not_after,
            now,
            source: CertificateSource::SelfSigned,
        };
        let file = own_file(harbor, &site, args.options.yes || args.options.dry_run)?;
        let (mut set, _) = install(&site, &wanted, file, &harbor.settings, &harbor.layout);
        set.title = title.clone();
        let said = vec![
            format!("{} has a self-signed certificate for {} days: a stop-gap", site.main(), args.days),
            "visitors are warned of it; http goes on beside https until another takes its place".to_string(),
        ];
        Ok(Decision { set, said })
    }))??;
    await_served(context, &changed)?;
    let secured = match changed.entry {
        Some(_) => Some(context.block_on(prove_installed(context, &main))??),
        None => None,
    };
    Ok(Box::new(SelfSigned { changed, secured }))
}

struct SelfSigned {
    changed: Changed,
    /// What a handshake showed; nothing for a dry run.
    secured: Option<Secured>,
}

impl Shown for SelfSigned {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
        self.secured.iter().for_each(|secured| human::secured(page, secured));
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate self-sign",
            "change": json::ChangeDocument::from(&self.changed),
            "certificate": self.secured.as_ref().map(json::SecuredDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        if self.secured.iter().all(Secured::is_shown) { Exit::Done } else { Exit::Fault }
    }
}
