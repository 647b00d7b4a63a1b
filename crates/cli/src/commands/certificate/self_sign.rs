//! `certificate self-sign`: a stop-gap, until a certificate comes that visitors' programs trust.

use brightharbor_core::certificate::securing::Secured;
use brightharbor_core::certificate::{CertificateRefusal, SelfSigned as Signed, install_stop_gap, refuse_stop_gap};
use brightharbor_io::keys::{KeyError, new_key_pem, self_signed};
use brightharbor_io::load;
use brightharbor_io::secure::verify_installed;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_site, host};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change, until_served};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Sign a certificate with its own key, as a stop-gap. Visitors are warned of it; http does not redirect to https.
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
    let unmade = |error: KeyError| CertificateRefusal::Key(error.to_string());
    let title = format!("certificate self-sign {name}");
    // Made once: what is decided again under the lock is the same.
    let key_pem = new_key_pem().map_err(unmade)?;
    context.block_on(async {
        let (carried, main) = change(context, &title, &args.options, async |overlay, now| {
            let site = find_site(overlay, &name)?;
            let main = site.main().clone();
            let receiving = load::receiving(overlay, site)?;
            refuse_stop_gap(&receiving, now)?;
            let chain_pem = self_signed(&key_pem, &receiving.site.hostnames, now, args.days).map_err(unmade)?;
            let made = Signed { chain_pem: &chain_pem, key_pem: &key_pem, days: args.days };
            Ok((install_stop_gap(made, &receiving, &overlay.settings, &overlay.layout, now)?, main))
        })
        .await?;
        until_served(context, &carried).await?;
        let secured = match carried.entry {
            Some(_) => Some(context.work(async |door| verify_installed(door, &main).await).await?),
            None => None,
        };
        Ok::<_, Error>(Box::new(SelfSigned { carried, secured }) as Box<dyn Shown>)
    })?
}

struct SelfSigned {
    carried: Carried,
    /// What a handshake showed; nothing for a dry run.
    secured: Option<Secured>,
}

impl Shown for SelfSigned {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.carried);
        self.secured.iter().for_each(|secured| human::secured(page, secured));
    }

    fn json(&self) -> Value {
        json!({
            "command": "certificate self-sign",
            "change": json::ChangeDocument::from(&self.carried),
            "certificate": self.secured.as_ref().map(json::SecuredDocument::from),
        })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(if self.secured.iter().all(Secured::is_shown) { Exit::Done } else { Exit::Fault })
    }
}
