//! `zone list`: the zones of this harbor, with what their files say.

use brightharbor_core::site::{Zone, ZoneHome};
use brightharbor_core::zone::Document;
use brightharbor_io::install::read_if_there;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, table};

/// List the zones.
#[derive(Debug, Args)]
pub struct List {}

pub fn run(_: &List, context: &Context) -> Report {
    let harbor = context.open()?;
    let zones = harbor.store.zones()?.into_iter();
    let rows = zones.map(|zone| {
        let file = match zone.home {
            ZoneHome::Here => read_if_there(&harbor.layout.zone_file(&zone.name))?,
            ZoneHome::Elsewhere => None,
        };
        let contents = match (&zone.home, file) {
            (ZoneHome::Elsewhere, _) => Contents::Elsewhere,
            (ZoneHome::Here, None) => Contents::Broken("the file is gone".into()),
            (ZoneHome::Here, Some(bytes)) => match Document::parse(bytes, &zone.name.dns_name()) {
                Ok(document) => Contents::Read { serial: document.soa().serial, records: document.records().count() },
                Err(error) => Contents::Broken(error.to_string()),
            },
        };
        Ok((zone, contents))
    });
    Ok(Box::new(Zones { rows: rows.collect::<Result<_, Error>>()? }))
}

enum Contents {
    Elsewhere,
    Read { serial: u32, records: usize },
    Broken(String),
}

struct Zones {
    rows: Vec<(Zone, Contents)>,
}

impl Shown for Zones {
    fn human(&self, page: &mut Page) {
        if self.rows.is_empty() {
            return page.line("No zones yet. Attaching a domain makes its zone.");
        }
        let row = |(zone, contents): &(Zone, Contents)| {
            let (home, serial, records) = match contents {
                Contents::Elsewhere => ("elsewhere", String::new(), String::new()),
                Contents::Read { serial, records } => ("here", serial.to_string(), records.to_string()),
                Contents::Broken(why) => ("here", "unreadable".into(), why.clone()),
            };
            vec![zone.name.to_string(), zone.account.to_string(), home.to_string(), serial, records]
        };
        table(page, &["zone", "account", "kept", "serial", "records"], self.rows.iter().map(row).collect());
    }

    fn json(&self) -> Value {
        let row = |(zone, contents): &(Zone, Contents)| {
            let (serial, records, problem) = match contents {
                Contents::Elsewhere => (None, None, None),
                Contents::Read { serial, records } => (Some(*serial), Some(*records), None),
                Contents::Broken(why) => (None, None, Some(why.clone())),
            };
            let home = if zone.home == ZoneHome::Here { "here" } else { "elsewhere" };
            json!({
                "zone": zone.name,
                "account": zone.account,
                "home": home,
                "serial": serial,
                "records": records,
                "problem": problem,
            })
        };
        json!({ "command": "zone list", "zones": self.rows.iter().map(row).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        let broken = self.rows.iter().any(|(_, contents)| matches!(contents, Contents::Broken(_)));
        if broken { Exit::Fault } else { Exit::Done }
    }
}
