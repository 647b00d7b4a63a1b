//! `record list`: the records of a zone of this harbor, as its file has them.

use std::path::{Path, PathBuf};

use brightharbor_core::name::DnsName;
use brightharbor_core::zone::{Document, Record};
use brightharbor_io::install::read_if_there;
use brightharbor_io::master_file::parse_file;
use brightharbor_io::zones::read_zone;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, zone_name};
use crate::error::{Error, Exit, unreadable_zone};
use crate::narrowed::{Narrowed, WithText};
use crate::options::IncludeOptions;
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, list};

/// List the records of a zone.
#[derive(Debug, Args)]
pub struct List {
    /// The zone, or any hostname in it.
    #[arg(required_unless_present = "file", conflicts_with = "file")]
    zone: Option<String>,
    /// A master file anywhere, instead of a zone of the harbor.
    #[arg(long, value_name = "FILE", requires = "origin")]
    file: Option<PathBuf>,
    /// The name of the zone in that file.
    #[arg(long, value_name = "NAME", requires = "file")]
    origin: Option<DnsName>,
    /// List keys, signatures and proofs of absence, too.
    #[arg(long)]
    all: bool,
    #[command(flatten)]
    with: WithText,
    #[command(flatten)]
    includes: IncludeOptions,
}

/// What a signer makes: DNSKEY, RRSIG, NSEC and their like.
fn is_of_signing(record: &Record) -> bool {
    matches!(record.record_type().0, 46 | 47 | 48 | 50 | 51 | 59 | 60 | 65_534)
}

pub fn run(args: &List, context: &Context) -> Report {
    if let (Some(file), Some(origin)) = (&args.file, &args.origin) {
        let shown = file.display().to_string();
        let bytes = read_if_there(file)?.ok_or_else(|| {
            Error::refused("zone-file-gone", format!("file not found: {shown}")).advice("correct the path")
        })?;
        let document = parse_file(bytes, origin, args.includes.of(file, Path::new(".")))
            .map_err(|error| unreadable_zone(&shown, &error))?;
        return Ok(Box::new(Records::of(origin.bare(), &document, args)));
    }
    let name = zone_name(args.zone.as_deref().unwrap_or_default())?;
    let harbor = context.open()?;
    let zone = harbor.store.enclosing_zone(&name)?.ok_or_else(|| {
        Error::refused("no-zone", format!("no zone of this harbor holds {name}"))
            .advice(format!("attach its domain first: brightharbor attach {name} --account ACCOUNT"))
    })?;
    let document = context.block_on(read_zone(&harbor, &zone))??.document;
    Ok(Box::new(Records::of(zone.name.to_string(), &document, args)))
}

struct Records {
    zone: String,
    serial: u32,
    records: Narrowed<Record>,
    /// How many are listed where no text is looked for.
    own: usize,
    /// Whether what a signer makes is listed as well.
    all: bool,
}

impl Records {
    fn of(zone: String, document: &Document, args: &List) -> Self {
        let all = document.served_records();
        let own = all.iter().filter(|record| args.all || !is_of_signing(record)).count();
        let (of, serial) = (all.len(), document.soa().serial);
        Self { zone, serial, records: args.with.narrow(all, of, cells), own, all: args.all }
    }
}

fn cells(record: &Record) -> Vec<String> {
    vec![record.owner.to_string(), record.ttl.to_string(), record.record_type().to_string(), record.data.to_string()]
}

impl Shown for Records {
    fn human(&self, page: &mut Page) {
        let (of_signing, own): (Vec<&Record>, Vec<&Record>) =
            self.records.rows.iter().partition(|record| !self.all && is_of_signing(record));
        let of = if own.len() < self.own { format!(" of {}", self.own) } else { String::new() };
        page.heading(&format!("{}: {}{of} records, serial {}", self.zone, own.len(), self.serial));
        if !of_signing.is_empty() {
            let count = of_signing.len();
            page.hanging("", &format!("and {count} keys, signatures and proofs of absence, which --all lists"));
        }
        list(page, &["owner", "TTL", "type", "data"], own.into_iter().map(cells).collect());
    }

    fn json(&self) -> Value {
        let row = |record: &Record| {
            json!({
                "owner": record.owner.to_string(),
                "ttl": record.ttl,
                "type": record.record_type().to_string(),
                "data": record.data.to_string(),
            })
        };
        let mut document = json!({
            "command": "record list",
            "zone": self.zone,
            "serial": self.serial,
            "records": self.records.rows.iter().map(row).collect::<Vec<_>>(),
        });
        self.records.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
