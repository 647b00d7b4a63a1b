//! `record list`: the records of a zone of this harbor, as its file has them.

use brightharbor_core::zone::Record;
use brightharbor_io::zones::read_zone;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, hostname};
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, list};

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
    let document = context.block_on(read_zone(&harbor, &zone))??.document;
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
        list(page, &["owner", "TTL", "type", "data"], self.records.iter().map(row).collect());
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
