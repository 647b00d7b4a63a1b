//! `zone create`: a zone for a domain whose names are not served here. Attaching a domain makes its zone by itself.

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::name::{Hostname, is_registrable};
use brightharbor_core::site::{AccountName, AttachRefused, NewZone, NewZoneFiles, Zone, ZoneHome, new_zone};
use brightharbor_core::zone::Mail;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::read_if_there;
use clap::Args;
use jiff::Timestamp;
use serde_json::{Value, json};

use crate::commands::attach::MailArgument;
use crate::commands::{Report, hostname};
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Changed, Context, Decision, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// Make a zone from the template, for a domain whose names are not served here. `attach` makes its zone by itself.
#[derive(Debug, Args)]
pub struct Create {
    /// The domain, such as gullrock.example.
    domain: String,
    /// The account that it belongs to.
    #[arg(long, value_name = "ACCOUNT")]
    account: String,
    /// What the zone says about mail.
    #[arg(long, value_enum, default_value = "unsaid")]
    mail: MailArgument,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Create, context: &Context) -> Report {
    let domain = hostname(&args.domain)?;
    let account = AccountName::parse(&args.account).map_err(Error::wrong_use)?;
    if !is_registrable(&domain) {
        return Err(Error::wrong_use(format!("{domain} is not a registrable domain"))
            .advice("names below a domain are records in its zone: brightharbor record add"));
    }
    let title = format!("zone create {domain}");
    let changed = context.block_on(change(context, &title, &args.options, |harbor, now| {
        decide(harbor, &domain, account, args.mail.into(), &title, now)
    }))??;
    Ok(Box::new(Created { changed }))
}

fn decide(
    harbor: &Harbor,
    domain: &Hostname,
    account: AccountName,
    mail: Mail,
    title: &str,
    now: Timestamp,
) -> Result<Decision, Error> {
    if harbor.store.account(&account)?.is_none() {
        return Err(AttachRefused::UnknownAccount(account).into());
    }
    if let Some(zone) = harbor.store.zone(domain)? {
        let message = format!("there is a zone {domain} already; it belongs to the account {}", zone.account);
        return Err(Error::refused("zone-exists", message).advice(format!("see `brightharbor zone check {domain}`")));
    }
    let files = NewZoneFiles {
        zone_file: read_if_there(&harbor.layout.zone_file(domain))?,
        zone_list: read_if_there(&harbor.layout.zone_list_of(domain))?,
        template: read_if_there(&harbor.layout.zone_template())?,
    };
    let today = now.to_zoned(jiff::tz::TimeZone::UTC).date();
    let wanted = NewZone { domain, mail, today };
    let (changes, zone) = new_zone(&wanted, &files, &harbor.settings, &harbor.layout).map_err(AttachRefused::from)?;
    let mut set = ChangeSet::new(title);
    set.changes.extend(changes);
    set.inventory(InventoryChange::AddZone(Zone { name: domain.clone(), account, home: ZoneHome::Here }));
    let said = vec![format!("the zone {domain} is new, serial {}", zone.soa().serial)];
    Ok(Decision { set, said })
}

struct Created {
    changed: Changed,
}

impl Shown for Created {
    fn human(&self, page: &mut Page) {
        human::change_report(page, &self.changed);
    }

    fn json(&self) -> Value {
        json!({ "command": "zone create", "change": json::ChangeDocument::from(&self.changed) })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
