//! `zone list`: the zones of this harbor, what their files say, and which server has which serial.

use std::collections::HashSet;
use std::path::PathBuf;
use std::time::Duration;

use brightharbor_core::notice::{Condition, Told, Topic};
use brightharbor_core::zone::{Holder, Holding, Serials, Zone};
use brightharbor_io::clock;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::install::write_atomically;
use brightharbor_io::load::{self, LoadedFiles};
use brightharbor_io::notify::{Notified, notify};
use clap::Args;
use serde_json::{Value, json};
use tokio::time::sleep;

use super::list_server;
use crate::commands::{Report, find_account};
use crate::error::{Error, Exit};
use crate::narrowed::{Narrowed, WithText};
use crate::run::Context;
use crate::show::human::{self, Page};
use crate::show::metrics::Metrics;
use crate::show::words::host_words;
use crate::show::{Shown, json};
use crate::zone_states::{Contents, ZoneState, serials_of};

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
    #[command(flatten)]
    with: WithText,
    /// Tell the command of `[notify]` which zones are behind on a server since the last time, and which are no longer. What
    /// is just on its way is asked about once more before.
    #[arg(long, conflicts_with_all = ["server", "files_only"])]
    notify: bool,
}

/// A zone that has just changed is on its secondaries after a few seconds.
const ON_ITS_WAY: Duration = Duration::from_secs(5);

pub fn run(args: &List, context: &Context) -> Report {
    if args.server {
        return list_server::run(&args.with, context, !args.files_only);
    }
    let harbor = context.open()?;
    if args.notify && harbor.settings.notify.command.is_empty() {
        return Err(Error::nobody_to_tell());
    }
    let mut zones = harbor.store.zones()?;
    if let Some(typed) = &args.account {
        let account = find_account(&harbor, typed)?.name;
        zones.retain(|zone| zone.account == account);
    }
    let serials = match args.files_only {
        true => Serials::new(),
        false => {
            context.progress.doing("asking the servers for their serials");
            context.block_on(serials_of(&harbor, &zones))?
        }
    };
    let loaded = load::loaded_files(&harbor)?;
    let rows = zones.into_iter().map(|zone| ZoneState::read(&harbor, zone, &serials, &loaded));
    let mut rows: Vec<ZoneState> = rows.collect::<Result<_, Error>>()?;
    let notified = match args.notify {
        true => {
            look_again(&harbor, &mut rows, &loaded, context)?;
            context.block_on(tell(&harbor, &rows))??
        }
        false => None,
    };
    if let Some(path) = &args.metrics {
        write_atomically(path, metrics(&rows).as_bytes(), 0o644)?;
    }
    let of = harbor.store.zones()?.len();
    Ok(Box::new(Zones { zones: args.with.narrow(rows, of, cells), notified }))
}

/// Asks once more about the zones that are not everywhere: one that is on its way is no news.
fn look_again(harbor: &Harbor, rows: &mut [ZoneState], loaded: &LoadedFiles, context: &Context) -> Result<(), Error> {
    let zones: Vec<Zone> =
        rows.iter().filter(|row| !row.out_of_step().is_empty()).map(|row| row.zone.clone()).collect();
    if zones.is_empty() {
        return Ok(());
    }
    context.progress.doing("asking again about zones that are behind");
    let serials = context.block_on(async {
        sleep(ON_ITS_WAY).await;
        serials_of(harbor, &zones).await
    })?;
    for now in rows.iter_mut().filter(|row| zones.iter().any(|zone| zone.name == row.zone.name)) {
        *now = ZoneState::read(harbor, now.zone.clone(), &serials, loaded)?;
    }
    Ok(())
}

async fn tell(harbor: &Harbor, rows: &[ZoneState]) -> Result<Option<Notified>, Error> {
    let found = rows.iter().filter_map(|row| Condition::of_zone(&row.zone.name, &row.out_of_step())).collect();
    let is_listed =
        |told: &Told| told.topic == Topic::ZoneBehind && rows.iter().any(|row| row.zone.name.as_str() == told.subject);
    // A zone that is gone is behind nowhere.
    let known: HashSet<String> = harbor.store.zones()?.into_iter().map(|zone| zone.name.to_string()).collect();
    let is_gone = |told: &Told| told.topic == Topic::ZoneBehind && !known.contains(&told.subject);
    Ok(notify(harbor, found, |told| is_listed(told) || is_gone(told), clock::now()).await?)
}

fn metrics(rows: &[ZoneState]) -> String {
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

fn cells(row: &ZoneState) -> Vec<String> {
    let (serial, records) = match &row.contents {
        Contents::Elsewhere => (String::new(), String::new()),
        Contents::Remote { serial } => (serial.map_or_else(|| "unknown".into(), |s| s.to_string()), String::new()),
        Contents::Read { serial, records } => (serial.to_string(), records.to_string()),
        Contents::Broken(why) => ("unreadable".into(), why.clone()),
    };
    let kept = row.zone.home.words().to_string();
    vec![host_words(&(&row.zone.name).into()), row.zone.account.to_string(), kept, serial, records, row.served()]
}

struct Zones {
    zones: Narrowed<ZoneState>,
    /// What became of telling whoever wants to be told.
    notified: Option<Notified>,
}

impl Shown for Zones {
    fn human(&self, page: &mut Page) {
        let none = "No zones yet. Attaching a domain makes its zone.";
        self.zones.show(page, "zone", none, &["zone", "account", "kept", "serial", "records", "servers"], cells);
        if self.zones.rows.iter().any(|row| row.edited) {
            page.blank();
            page.hanging("", "Edited zone files, beside what is served: brightharbor zone load");
        }
        self.notified.iter().for_each(|notified| human::notified(page, notified));
    }

    fn json(&self) -> Value {
        let row = |row: &ZoneState| {
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
        let mut document = json!({
            "command": "zone list",
            "zones": self.zones.rows.iter().map(row).collect::<Vec<_>>(),
            "notified": self.notified.as_ref().map(json::NotifiedDocument::from),
        });
        self.zones.counts_into(&mut document);
        document
    }

    fn exit(&self) -> Exit {
        let broken = self.zones.rows.iter().any(|row| matches!(row.contents, Contents::Broken(_)));
        let behind = self.zones.rows.iter().any(|row| !row.out_of_step().is_empty());
        match (broken, behind) {
            (true, _) => Exit::Fault,
            (false, true) => Exit::Waits,
            (false, false) => Exit::Done,
        }
    }
}
