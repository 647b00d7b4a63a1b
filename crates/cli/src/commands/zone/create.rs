//! `zone create`: a zone for a domain whose names are not served here. Attaching a domain makes its zone by itself.

use std::path::{Path, PathBuf};

use brightharbor_core::account::{Account, AccountName};
use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::{Hostname, is_registrable};
use brightharbor_core::site::AttachRefused;
use brightharbor_core::zone::{Document, serial_date};
use brightharbor_core::zone::{NewZone, Zone, ZoneDesign, ZoneHome, new_zone};
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use brightharbor_io::zones::{parse_file, read_zone};
use clap::{Args, ValueEnum};
use jiff::Timestamp;

use crate::commands::attach::new_zone_files;
use crate::commands::{Report, hostname};
use crate::design::DesignOptions;
use crate::error::{Error, unreadable_zone};
use crate::options::ChangeOptions;
use crate::run::{Context, Decision, change};
use crate::show::ChangeReport;

/// Make a zone, for a domain whose names are not served here. `attach` makes its zone by itself.
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
    #[command(flatten)]
    design: DesignOptions,
    #[command(flatten)]
    options: ChangeOptions,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum HomeArgument {
    /// In this harbor, as a master file.
    Here,
    /// On a primary server that takes our updates; it is there already.
    Remote,
    /// With somebody else, where we have no access: it is remembered, and checked.
    Elsewhere,
}

pub fn run(args: &Create, context: &Context) -> Report {
    let domain = hostname(&args.domain)?;
    let account = AccountName::parse(&args.account).map_err(Error::wrong_use)?;
    if !is_registrable(&domain) {
        return Err(Error::wrong_use(format!("{domain} is not a registrable domain"))
            .advice("names below a domain are records in its zone: brightharbor record add"));
    }
    if args.from.is_some() && args.home != HomeArgument::Here {
        return Err(Error::wrong_use("a zone that is kept elsewhere is not made from a file here")
            .advice("give --from with --home here alone"));
    }
    let design = args.design.design()?;
    let title = format!("zone create {domain}");
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let owner = known_owner(harbor, &domain, &account)?;
        let nameserver_set = design.nameserver_set.clone().or(owner.nameserver_set);
        let design = ZoneDesign { nameserver_set, ..design.clone() };
        let mut set = ChangeSet::new(&title);
        let said = match args.home {
            HomeArgument::Here => here(args, harbor, &domain, &account, &design, now, &mut set)?,
            HomeArgument::Remote => {
                let zone = Zone {
                    primary: args.primary.clone(),
                    nameserver_set: design.nameserver_set.clone(),
                    ..Zone::new(domain.clone(), account.clone(), ZoneHome::Remote)
                };
                let kept = read_zone(harbor, &zone).await?;
                set.inventory(InventoryChange::AddZone(zone));
                let (records, serial) = (kept.document.records().count(), kept.document.soa().serial);
                format!("the zone {domain} is kept on its primary server: {records} records, serial {serial}")
            }
            HomeArgument::Elsewhere => {
                let zone = Zone::new(domain.clone(), account.clone(), ZoneHome::Elsewhere);
                set.inventory(InventoryChange::AddZone(zone));
                format!("the zone {domain} is kept elsewhere")
            }
        };
        Ok(Decision { set, said: vec![said] })
    }))??;
    Ok(Box::new(ChangeReport { command: "zone create", changed }))
}

/// The account of a zone that is not known yet.
fn known_owner(harbor: &Harbor, domain: &Hostname, account: &AccountName) -> Result<Account, Error> {
    let owner = harbor.store.account(account)?.ok_or_else(|| AttachRefused::UnknownAccount(account.clone()))?;
    if let Some(zone) = harbor.store.zone(domain)? {
        let message = format!("there is a zone {domain} already; it belongs to the account {}", zone.account);
        return Err(Error::refused("zone-exists", message).advice(format!("see `brightharbor zone show {domain}`")));
    }
    Ok(owner)
}

fn here(
    args: &Create,
    harbor: &Harbor,
    domain: &Hostname,
    account: &AccountName,
    design: &ZoneDesign,
    now: Timestamp,
    set: &mut ChangeSet,
) -> Result<String, Error> {
    let content = args.from.as_ref().map(|file| read_master_file(file, domain, harbor)).transpose()?;
    let files = new_zone_files(harbor, domain, &design.template, set)?;
    let today = serial_date(now);
    let wanted = NewZone { domain, account, design, content, today };
    let (changes, zone) = new_zone(&wanted, &files, &harbor.settings, &harbor.layout)?;
    set.changes.extend(changes);
    Ok(format!("the zone {domain} is new, serial {}", zone.soa().serial))
}

fn read_master_file(file: &Path, domain: &Hostname, harbor: &Harbor) -> Result<Document, Error> {
    let shown = file.display().to_string();
    let bytes = read_if_there(file)?.ok_or_else(|| Error::wrong_use(format!("there is no file {shown}")))?;
    let directory = harbor.settings.dns.directory.as_deref();
    parse_file(bytes, &domain.dns_name(), directory).map_err(|error| unreadable_zone(&shown, &error))
}
