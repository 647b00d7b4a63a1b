//! `site change`: another document root, other content, www policy, https policy, TLS version, HSTS.

use std::path::PathBuf;

use brightharbor_core::account::AccountName;
use brightharbor_core::name::Host;
use brightharbor_core::site::{
    ChangeSite as Request, HttpsPolicy, SiteRefusal, TlsFloor, WwwPolicy, decide_change, hand_over,
};
use brightharbor_core::zone::serial_date;
use brightharbor_io::load;
use clap::{Args, ValueEnum};

use crate::commands::{Report, account_name, host};
use crate::content::ContentOptions;
use crate::duration::parse_duration;
use crate::error::Error;
use crate::options::{ChangeOptions, WwwArgument};
use crate::run::{Context, change, until_served};
use crate::show::{ChangeReport, Shown};

/// Change how a site is served.
#[derive(Debug, Args)]
pub struct ChangeSite {
    /// One of its hostnames.
    hostname: String,
    /// Hand it over to this account: the domain with all its names, zones and certificates. Pages do not move.
    #[arg(long, value_name = "ACCOUNT", conflicts_with_all = ["www", "https", "tls", "hsts", "existing"])]
    account: Option<String>,
    /// Serve it from this folder: relative to the account's home, or absolute inside it.
    #[arg(long, value_name = "FOLDER")]
    document_root: Option<PathBuf>,
    /// The given folder may already exist.
    #[arg(long, requires = "document_root")]
    existing: bool,
    /// The www twin: served alike, or one redirecting to the other.
    #[arg(long, value_enum)]
    www: Option<WwwArgument>,
    /// Whether http redirects to https, once a certificate covers all names.
    #[arg(long, value_enum)]
    https: Option<HttpsArgument>,
    /// The oldest TLS version that is offered.
    #[arg(long, value_enum)]
    tls: Option<TlsArgument>,
    /// HSTS: how long browsers use only https (seconds, or as 26w); `off` to stop it.
    #[arg(long, value_name = "DURATION")]
    hsts: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
    // Last: its heading would hold for what comes behind it.
    #[command(flatten)]
    content: ContentOptions,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum HttpsArgument {
    Forced,
    Offered,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum TlsArgument {
    #[value(name = "1.2")]
    Tls12,
    #[value(name = "1.3")]
    Tls13,
}

pub fn run(args: &ChangeSite, context: &Context) -> Report {
    let name = host(&args.hostname)?;
    if let Some(typed) = &args.account {
        if !args.content.wish()?.is_empty() {
            return Err(
                Error::wrong_use("a site is handed over as it is").advice("change what it shows by another call")
            );
        }
        return hand_over_to(&name, &account_name(typed)?, args, context);
    }
    let request = Request {
        document_root: args.document_root.clone(),
        existing: args.existing,
        www: args.www.map(WwwPolicy::from),
        https: args.https.map(HttpsPolicy::from),
        tls: args.tls.map(TlsFloor::from),
        hsts: args.hsts.as_deref().map(read_hsts).transpose()?,
        content: args.content.wish()?,
    };
    let title = format!("site change {name}");
    context.block_on(async {
        let (carried, ()) = change(context, &title, &args.options, async |overlay, now| {
            let site = overlay.site_of(&name)?.ok_or_else(|| SiteRefusal::NotAttached(name.clone()))?;
            let loaded = load::change_site(overlay, site, &request).await?;
            Ok((decide_change(&request, &loaded, &overlay.settings, &overlay.layout, serial_date(now))?, ()))
        })
        .await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "site change", carried }) as Box<dyn Shown>)
    })?
}

fn hand_over_to(name: &Host, to: &AccountName, args: &ChangeSite, context: &Context) -> Report {
    let title = format!("site change {name} --account {to}");
    context.block_on(async {
        let (carried, ()) = change(context, &title, &args.options, async |overlay, _| {
            let site = overlay.site_of(name)?.ok_or_else(|| SiteRefusal::NotAttached(name.clone()))?;
            let loaded = load::hand_over(overlay, site, to)?;
            let root = args.document_root.as_deref();
            Ok((hand_over(&loaded, root, &overlay.settings, &overlay.layout)?, ()))
        })
        .await?;
        until_served(context, &carried).await?;
        Ok::<_, Error>(Box::new(ChangeReport { command: "site change", carried }) as Box<dyn Shown>)
    })?
}

impl From<HttpsArgument> for HttpsPolicy {
    fn from(typed: HttpsArgument) -> Self {
        match typed {
            HttpsArgument::Forced => HttpsPolicy::Forced,
            HttpsArgument::Offered => HttpsPolicy::Offered,
        }
    }
}

impl From<TlsArgument> for TlsFloor {
    fn from(typed: TlsArgument) -> Self {
        match typed {
            TlsArgument::Tls12 => TlsFloor::Tls12,
            TlsArgument::Tls13 => TlsFloor::Tls13,
        }
    }
}

fn read_hsts(typed: &str) -> Result<Option<u32>, Error> {
    if typed == "off" {
        return Ok(None);
    }
    let advice = "give it as 26w, or `off`";
    let seconds = u32::try_from(parse_duration(typed, advice)?.as_secs()).unwrap_or(u32::MAX);
    if seconds == 0 {
        return Err(Error::wrong_use("`0` is not a duration to bind browsers for").advice(advice));
    }
    Ok(Some(seconds))
}
