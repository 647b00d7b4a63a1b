//! `record list`: the records of a zone of this harbor, as its file has them.

use brightharbor_core::site::ZoneHome;
use brightharbor_core::zone::{Document, Record};
use brightharbor_io::install::read_if_there;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, hostname};
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, table};

/// List the records of a zone.
#[derive(Debug, Args)]
pub struct List {
    /// The zone, or any hostname in it.
    zone: String,
}

pub fn run(args: &List, context: &Context) -> Report {
    let name = hostname(&args.zone)?;
    let harbor = context.open()?;
    let zone = harbor.store.enclosing_zone(&name)?.ok_or_else(|| {
        Error::refused("no-zone", format!("no zone of this harbor holds {name}"))
            .advice(format!("attach its domain first: brightharbor attach {name} --account ACCOUNT"))
    })?;
    if zone.home == ZoneHome::Elsewhere {
        return Err(Error::refused("zone-elsewhere", format!("the zone {} is kept elsewhere", zone.name))
            .advice(format!("ask its nameservers: brightharbor survey {}", zone.name)));
    }
    let path = harbor.layout.zone_file(&zone.name);
    let shown = path.display();
    let bytes = read_if_there(&path)?.ok_or_else(|| {
        Error::refused("zone-file-gone", format!("the zone file {shown} is gone")).advice("put it back from a backup")
    })?;
    let document = Document::parse(bytes, &zone.name.dns_name()).map_err(|error| {
        Error::new(Exit::Fault, "zone-unreadable", format!("{shown}: {error}")).advice("mend that line of the file")
    })?;
    let records = document.records().cloned().collect();
    Ok(Box::new(Records { zone: zone.name.to_string(), serial: document.soa().serial, records }))
}

struct Records {
    zone: String,
    serial: u32,
    records: Vec<Record>,
}

impl Shown for Records {
    fn human(&self, page: &mut Page) {
        page.heading(&format!("{}: {} records, serial {}", self.zone, self.records.len(), self.serial));
        let row = |record: &Record| {
            vec![
                record.owner.to_string(),
                record.ttl.to_string(),
                record.record_type().to_string(),
                record.data.to_string(),
            ]
        };
        table(page, &["owner", "TTL", "type", "data"], self.records.iter().map(row).collect());
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
        json!({
            "command": "record list",
            "zone": self.zone,
            "serial": self.serial,
            "records": self.records.iter().map(row).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        Exit::Done
    }
}
