//! `zone list`: the zones of this harbor, what their files say, and which server has which serial.

use std::path::PathBuf;

use brightharbor_core::zone::Serials;
use brightharbor_core::zone::{Zone, ZoneHome};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::{read_if_there, write_atomically};
use brightharbor_io::load::{self, LoadedFiles};
use brightharbor_io::master_file::{Includes, parse_file};
use brightharbor_io::server::ask_serials;
use clap::Args;
use serde_json::{Value, json};

use super::list_server;
use crate::commands::{Report, find_account};
use crate::error::{Error, Exit};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, list};
use crate::show::metrics::Metrics;
use crate::show::words::host_words;
use brightharbor_core::zone::{Holder, Holding, holders, newest_of};

/// List the zones, with the serial that each server has.
#[derive(Debug, Args)]
pub struct List {
    /// Of this account alone.
    #[arg(long, value_name = "ACCOUNT")]
    account: Option<String>,
    /// Ask no server: what the files say alone.
    #[arg(long)]
    files_only: bool,
    /// The zones that the DNS server has from its own configuration, beside those of this harbor.
    #[arg(long, conflicts_with = "account")]
    server: bool,
    /// Write which zones are behind on which server to this file, in the text format of Prometheus.
    #[arg(long, value_name = "FILE", conflicts_with_all = ["server", "files_only"])]
    metrics: Option<PathBuf>,
}

pub fn run(args: &List, context: &Context) -> Report {
    if args.server {
        return list_server::run(context, !args.files_only);
    }
    let harbor = context.open()?;
    let mut zones = harbor.store.zones()?;
    if let Some(typed) = &args.account {
        let account = find_account(&harbor, typed)?.name;
        zones.retain(|zone| zone.account == account);
    }
    let serials = match args.files_only {
        true => Serials::new(),
        false => {
            context.progress.doing("asking the servers for their serials");
            let settings = &harbor.settings;
            let of_zone = |zone: &Zone| {
                let name = zone.name.clone();
                holders(settings, zone).into_iter().map(move |holder| (holder.address, name.clone()))
            };
            context.block_on(ask_serials(zones.iter().flat_map(of_zone).collect()))?
        }
    };
    let loaded = load::loaded_files(&harbor)?;
    let rows = zones.into_iter().map(|zone| row(&harbor, zone, &serials, &loaded));
    let rows: Vec<Row> = rows.collect::<Result<_, Error>>()?;
    if let Some(path) = &args.metrics {
        write_atomically(path, metrics(&rows).as_bytes(), 0o644)?;
    }
    Ok(Box::new(Zones { rows }))
}

fn metrics(rows: &[Row]) -> String {
    let mut metrics = Metrics::default();
    let asked = rows.iter().flat_map(|row| row.held.iter().map(move |(holder, holding)| (row, holder, holding)));
    let asked: Vec<_> = asked.filter(|(_, _, holding)| **holding != Holding::NotAsked).collect();
    let behind = asked.iter().map(|(row, holder, holding)| {
        (vec![("zone", row.zone.name.as_str()), ("server", holder.name.as_str())], i64::from(!holding.is_in_step()))
    });
    metrics.gauge("zone_behind", "Whether a server has another zone than it should.", behind);
    let edited = rows.iter().map(|row| (vec![("zone", row.zone.name.as_str())], i64::from(row.edited)));
    metrics.gauge("zone_edited", "Whether its file was edited by hand since it was loaded.", edited);
    metrics.single("zones_written_seconds", "When this was written.", clock::now().as_second());
    metrics.into_text()
}

fn row(harbor: &Harbor, zone: Zone, serials: &Serials, loaded: &LoadedFiles) -> Result<Row, Error> {
    let mut edited = false;
    let holders = holders(&harbor.settings, &zone);
    let includes = Includes::OfServer(harbor.settings.dns.directory.as_deref());
    let contents = match zone.home {
        ZoneHome::Elsewhere => Contents::Elsewhere,
        ZoneHome::Remote => {
            let answered = holders.first().and_then(|primary| serials.get(&(primary.address, zone.name.clone())));
            Contents::Remote { serial: answered.and_then(|answer| answer.clone().ok()) }
        }
        ZoneHome::Here => match read_if_there(&harbor.layout.zone_file(&zone.name))?
            .inspect(|content| edited = loaded.differ(&zone.name, Some(content)))
        {
            None => Contents::Broken("the file is gone".into()),
            Some(bytes) => match parse_file(bytes, &zone.name.dns_name(), includes) {
                Ok(zone) => Contents::Read { serial: zone.soa().serial, records: zone.records().count() },
                Err(error) => Contents::Broken(error.to_string()),
            },
        },
    };
    let newest = match contents {
        Contents::Read { serial, .. } => Some(serial),
        Contents::Remote { serial } => serial,
        Contents::Elsewhere | Contents::Broken(_) => None,
    };
    let newest = newest.map(|file| newest_of(&zone, file, &holders, serials)).unwrap_or_default();
    let held = holders.into_iter().map(|holder| {
        let holding = Holding::of(&holder, &zone.name, newest, serials);
        (holder, holding)
    });
    Ok(Row { held: held.collect(), zone, contents, edited })
}

enum Contents {
    Elsewhere,
    Remote { serial: Option<u32> },
    Read { serial: u32, records: usize },
    Broken(String),
}

struct Row {
    zone: Zone,
    contents: Contents,
    /// Somebody has edited the file since it was loaded from here.
    edited: bool,
    held: Vec<(Holder, Holding)>,
}

impl Row {
    /// Where the servers are with the zone, in a few words.
    fn served(&self) -> String {
        let asked: Vec<_> = self.held.iter().filter(|(_, holding)| *holding != Holding::NotAsked).collect();
        let out_of_step: Vec<String> = asked
            .iter()
            .filter(|(_, holding)| !holding.is_in_step())
            .map(|(holder, holding)| format!("{}: {}", holder.name, holding.words()))
            .collect();
        let servers = match (asked.len(), out_of_step.is_empty()) {
            (0, _) => String::new(),
            // Which of both it serves is not known.
            (_, true) if self.edited => String::new(),
            (1, true) => "loaded".into(),
            (count, true) => format!("all {count} in step"),
            (_, false) => out_of_step.join("; "),
        };
        match (self.edited, servers.is_empty()) {
            (false, _) => servers,
            (true, true) => "file edited by hand since".into(),
            (true, false) => format!("{servers}; file edited by hand since"),
        }
    }
}

struct Zones {
    rows: Vec<Row>,
}

impl Shown for Zones {
    fn human(&self, page: &mut Page) {
        if self.rows.is_empty() {
            return page.line("No zones yet. Attaching a domain makes its zone.");
        }
        let row = |row: &Row| {
            let (serial, records) = match &row.contents {
                Contents::Elsewhere => (String::new(), String::new()),
                Contents::Remote { serial } => {
                    (serial.map_or_else(|| "unknown".into(), |s| s.to_string()), String::new())
                }
                Contents::Read { serial, records } => (serial.to_string(), records.to_string()),
                Contents::Broken(why) => ("unreadable".into(), why.clone()),
            };
            let kept = row.zone.home.words().to_string();
            vec![
                host_words(&(&row.zone.name).into()),
                row.zone.account.to_string(),
                kept,
                serial,
                records,
                row.served(),
            ]
        };
        let headings = ["zone", "account", "kept", "serial", "records", "servers"];
        list(page, &headings, self.rows.iter().map(row).collect());
        if self.rows.iter().any(|row| row.edited) {
            page.blank();
            page.hanging("", "Edited zone files, beside what is served: brightharbor zone load");
        }
    }

    fn json(&self) -> Value {
        let row = |row: &Row| {
            let (serial, records, problem) = match &row.contents {
                Contents::Elsewhere => (None, None, None),
                Contents::Remote { serial } => (*serial, None, None),
                Contents::Read { serial, records } => (Some(*serial), Some(*records), None),
                Contents::Broken(why) => (None, None, Some(why.clone())),
            };
            let server = |(holder, holding): &(Holder, Holding)| {
                json!({
                    "name": holder.name,
                    "address": holder.address.to_string(),
                    "serial": holding.serial(),
                    "in_step": holding.is_in_step(),
                    "problem": if let Holding::Not(words) = holding { Some(words) } else { None },
                })
            };
            json!({
                "zone": row.zone.name,
                "account": row.zone.account,
                "home": row.zone.home,
                "serial": serial,
                "records": records,
                "problem": problem,
                "edited_by_hand": row.edited,
                "signed_by": row.zone.signed_by(),
                "servers": row.held.iter().map(server).collect::<Vec<_>>(),
            })
        };
        json!({ "command": "zone list", "zones": self.rows.iter().map(row).collect::<Vec<_>>() })
    }

    fn exit(&self) -> Exit {
        let broken = self.rows.iter().any(|row| matches!(row.contents, Contents::Broken(_)));
        if broken { Exit::Fault } else { Exit::Done }
    }
}
