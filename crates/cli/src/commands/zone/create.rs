//! `zone create`: a zone for a domain whose names are not served here. Attaching a domain makes its zone by itself.

use std::path::{Path, PathBuf};

use brightharbor_core::account::AccountName;
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{CreateZone, Document, ZoneHome, create_zone, take_over};
use brightharbor_io::load;
use brightharbor_io::master_file::parse_file;
use brightharbor_io::overlay::Overlay;
use clap::{Args, ValueEnum};

use super::source::server_zones;
use crate::commands::{Report, zone_name};
use crate::design::{DesignOptions, former_file};
use crate::error::{Error, unreadable_zone};
use crate::options::{ChangeOptions, IncludeOptions};
use crate::run::{Context, change};
use crate::show::ChangeReport;

/// Create a zone for a domain whose names are not served here. `attach` creates the zone of its domain.
#[derive(Debug, Args)]
pub struct Create {
    /// The domain, such as gullrock.example.
    domain: String,
    /// The account that it belongs to.
    #[arg(long, value_name = "ACCOUNT")]
    account: String,
    /// Where the zone is kept.
    #[arg(long, value_enum, default_value = "here")]
    home: HomeArgument,
    /// With `--home remote`: the primary server of harbor.toml that holds the zone.
    #[arg(long, value_name = "NAME", required_if_eq("home", "remote"))]
    primary: Option<String>,
    /// Take the zone from this master file, byte for byte, instead of a template.
    #[arg(long, value_name = "FILE")]
    from: Option<PathBuf>,
    /// Keep a zone that the DNS server has from its own configuration: its file stays as and where it is, and its definition
    /// moves into the zone list here.
    #[arg(long, conflicts_with_all = ["from", "home", "primary", "bare", "mail", "template", "nameserver_set"])]
    from_server: bool,
    /// With `--from`: the file is that of a former provider. The zone is made from the template, and what the file has
    /// beside it is carried over.
    #[arg(long, requires = "from", conflicts_with = "bare")]
    merge: bool,
    #[command(flatten)]
    includes: IncludeOptions,
    #[command(flatten)]
    design: DesignOptions,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum HomeArgument {
    /// In this harbor, as a master file.
    Here,
    /// On a primary server that takes our updates; the zone already exists there.
    Remote,
    /// With somebody else, where we have no access: it is remembered, and checked.
    Elsewhere,
}

pub fn run(args: &Create, context: &Context) -> Report {
    let domain = zone_name(&args.domain)?;
    let account = AccountName::parse(&args.account).map_err(Error::wrong_use)?;
    if args.from.is_some() && args.home != HomeArgument::Here {
        return Err(Error::wrong_use("a zone that is kept elsewhere is not made from a file here")
            .advice("give --from with --home here alone"));
    }
    if args.from_server {
        return from_server(args, domain, account, context);
    }
    let mut design = args.design.design()?;
    if let Some(file) = args.from.as_ref().filter(|_| args.merge) {
        design.former = former_file(file, &domain)?;
    }
    let request = CreateZone { domain: domain.clone(), account, design };
    let title = format!("zone create {domain}");
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let content = args
            .from
            .as_ref()
            .filter(|_| !args.merge)
            .map(|file| read_master_file(file, &domain, args.includes, overlay))
            .transpose()?;
        let primary = args.primary.as_deref();
        let loaded = load::create_zone(overlay, &request, args.home.into(), primary, content).await?;
        Ok((create_zone(&request, &loaded, &overlay.settings, &overlay.layout, now)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "zone create", carried }))
}

/// The server's own configuration is read once, before anything is asked.
fn from_server(args: &Create, domain: Hostname, account: AccountName, context: &Context) -> Report {
    let harbor = context.open()?;
    let all = server_zones(&harbor)?;
    let title = format!("zone create {domain} --from-server");
    let request = CreateZone { domain, account, design: args.design.design()? };
    let (carried, ()) = context.block_on(change(context, &title, &args.options, async |overlay, now| {
        let loaded = load::take_over(overlay, &request, &all).await?;
        Ok((take_over(&request, &loaded, &overlay.settings, &overlay.layout, now)?, ()))
    }))??;
    Ok(Box::new(ChangeReport { command: "zone create", carried }))
}

impl From<HomeArgument> for ZoneHome {
    fn from(typed: HomeArgument) -> Self {
        match typed {
            HomeArgument::Here => ZoneHome::Here,
            HomeArgument::Remote => ZoneHome::Remote,
            HomeArgument::Elsewhere => ZoneHome::Elsewhere,
        }
    }
}

/// What it includes counts from where the server will look for it.
fn read_master_file(
    file: &Path,
    domain: &Hostname,
    includes: IncludeOptions,
    overlay: &Overlay<'_>,
) -> Result<Document, Error> {
    let shown = file.display().to_string();
    let bytes = overlay.file(file)?.ok_or_else(|| Error::wrong_use(format!("file not found: {shown}")))?;
    let directory = overlay.settings.dns.directory.as_deref().unwrap_or(Path::new("/"));
    parse_file(bytes, &domain.dns_name(), includes.of(file, directory)).map_err(|error| unreadable_zone(&shown, &error))
}
