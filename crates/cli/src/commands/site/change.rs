//! `site change`: another document root, www policy, https policy, TLS version, HSTS.

use std::path::PathBuf;

use brightharbor_core::change::{Change, ChangeSet, FolderMake};
use brightharbor_core::render::starter_page;
use brightharbor_core::site::{AttachRefused, HttpsPolicy, HttpsState, Site, TlsFloor, document_root};
use brightharbor_io::harbor::Harbor;
use clap::{Args, ValueEnum};

use super::show::{find, www_words};
use crate::commands::attach::WwwArgument;
use crate::commands::{Report, host};
use crate::duration::parse_duration;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;
use crate::site_change::{await_served, own_file, site_change};

/// Change how a site is served.
#[derive(Debug, Args)]
pub struct ChangeSite {
    /// One of its hostnames.
    hostname: String,
    /// Serve it from this folder: relative to the account's home, or absolute inside it.
    #[arg(long, value_name = "FOLDER")]
    document_root: Option<PathBuf>,
    /// The given folder may be there already.
    #[arg(long, requires = "document_root")]
    existing: bool,
    /// The www twin: served alike, or one sent to the other.
    #[arg(long, value_enum)]
    www: Option<WwwArgument>,
    /// Whether http is sent to https, once a certificate covers all names.
    #[arg(long, value_enum)]
    https: Option<HttpsArgument>,
    /// The oldest TLS version that is spoken.
    #[arg(long, value_enum)]
    tls: Option<TlsArgument>,
    /// For how long browsers are told to use https alone (seconds, or as 26w); `off` for not at all.
    #[arg(long, value_name = "DURATION")]
    hsts: Option<String>,
    #[command(flatten)]
    options: ChangeOptions,
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
    let hsts = args.hsts.as_deref().map(read_hsts).transpose()?;
    let title = format!("site change {name}");
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, _| {
        let before = find(harbor, &name)?;
        let mut set = ChangeSet::new(&title);
        let (after, mut said) = decide(args, hsts, harbor, &before, &mut set)?;
        let written_again = args.options.yes && own_file(harbor, &before, false).is_err();
        if written_again {
            said.push("its file, which was changed by hand, is written again".into());
        }
        if after != before || written_again {
            site_change(harbor, &before, &after, &args.options, &mut set)?;
        }
        let said = if said.is_empty() { vec!["nothing is to be changed".to_string()] } else { said };
        Ok(Decision { set, said })
    }))??;
    await_served(context, &changed)?;
    Ok(Box::new(ChangeReport { command: "site change", changed }))
}

fn read_hsts(typed: &str) -> Result<Option<u32>, Error> {
    if typed == "off" {
        return Ok(None);
    }
    let advice = "give it as 26w, or `off`";
    let seconds = u32::try_from(parse_duration(typed, advice)?.as_secs()).unwrap_or(u32::MAX);
    if seconds == 0 {
        return Err(Error::wrong_use("`0` is no duration to bind browsers for").advice(advice));
    }
    Ok(Some(seconds))
}

fn decide(
    args: &ChangeSite,
    hsts: Option<Option<u32>>,
    harbor: &Harbor,
    before: &Site,
    set: &mut ChangeSet,
) -> Result<(Site, Vec<String>), Error> {
    let mut after = before.clone();
    let mut said = Vec::new();
    if let Some(given) = &args.document_root {
        let account = harbor
            .store
            .account(&before.account)?
            .ok_or_else(|| AttachRefused::UnknownAccount(before.account.clone()))?;
        let root = document_root(Some(given), "", &account, before.main())?;
        if !args.existing && root != before.document_root && std::fs::symlink_metadata(&root).is_ok() {
            return Err(AttachRefused::RootIsThere(root).into());
        }
        let below = root.strip_prefix(&account.home).unwrap_or(&root).to_path_buf();
        set.changes.push(Change::MakeFolder(FolderMake {
            home: account.home.clone(),
            below,
            system_user: account.system_user.clone(),
            mode: 0o755,
            starter_page: Some(starter_page(before.main())),
            starter_files: harbor.layout.starter_files(&account.name),
        }));
        said.push(format!(
            "it is served from {}; what is in {} stays there",
            root.display(),
            before.document_root.display()
        ));
        after.document_root = root;
    }
    if let Some(www) = args.www {
        after.rules.www = www.into();
        said.push(format!("www: {}", www_words(after.rules.www)));
    }
    match args.https {
        Some(HttpsArgument::Forced) => {
            after.rules.https_policy = HttpsPolicy::Forced;
            let certificate = harbor.store.certificate_of(before.main())?;
            let covered = certificate.is_some_and(|c| before.hostnames.iter().all(|name| c.covers(name)));
            if covered {
                after.https = HttpsState::Forced;
            }
            let when = if covered { "" } else { ", as soon as a certificate covers all its names" };
            said.push(format!("http is sent to https{when}"));
        }
        Some(HttpsArgument::Offered) => {
            after.rules.https_policy = HttpsPolicy::Offered;
            if before.https == HttpsState::Forced {
                after.https = HttpsState::Offered;
            }
            said.push("http is served beside https".into());
        }
        None => {}
    }
    if let Some(tls) = args.tls {
        after.rules.tls = match tls {
            TlsArgument::Tls12 => TlsFloor::Tls12,
            TlsArgument::Tls13 => TlsFloor::Tls13,
        };
        said.push(match tls {
            TlsArgument::Tls12 => "TLS 1.2 and 1.3 are spoken".into(),
            TlsArgument::Tls13 => "TLS 1.3 alone is spoken: visitors with older programs are shut out".into(),
        });
    }
    if let Some(hsts) = hsts {
        after.rules.hsts = hsts;
        if hsts.is_some() && after.https != HttpsState::Forced {
            return Err(Error::refused(
                "hsts-without-https",
                "browsers would be bound to https, which is not forced here",
            )
            .advice("force https first: brightharbor site change HOSTNAME --https forced"));
        }
        said.push(match hsts {
            Some(_) => {
                "browsers that were here use https alone for that time: it cannot be taken back from them".into()
            }
            None => {
                "browsers are not bound to https any more; those that were here stay bound until their time is over"
                    .into()
            }
        });
    }
    Ok((after, said))
}
