//! `zone publish`: secondaries in the zone list, the catalog zone, and every secondary told until it has the newest
//! serial of every zone.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::time::{Duration, Instant};

use brightharbor_core::harbor::Settings;
use brightharbor_core::name::Hostname;
use brightharbor_core::zone::{Holder, Holding, Zone, ZoneHome, holders, publish, secondaries};
use brightharbor_io::dns::{Notification, TransactionKey, notify_all};
use brightharbor_io::load;
use brightharbor_io::server::ask_serials;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::Report;
use crate::duration::parse_duration;
use crate::error::{Error, Exit};
use crate::options::ChangeOptions;
use crate::run::{Carried, Context, change};
use crate::show::human::{self, Page};
use crate::show::{Shown, json};

/// How long secondaries are waited for, unless said otherwise.
const PATIENCE: &str = "30";

/// Publish the zones to the secondaries of harbor.toml, and wait until they have them.
///
/// Limits transfers to their keys, keeps the catalog zone, and notifies those that are behind.
#[derive(Debug, Args)]
pub struct Publish {
    /// How long to wait for the secondaries: seconds, or as 1h30m.
    #[arg(long, value_name = "DURATION", default_value = PATIENCE)]
    wait: String,
    #[command(flatten)]
    options: ChangeOptions,
}

pub fn run(args: &Publish, context: &Context) -> Report {
    let patience = parse_duration(&args.wait, "give seconds, or as 1h30m")?;
    let settings = context.open()?.settings;
    if settings.secondaries.is_empty() {
        return Err(Error::refused("no-secondaries", "harbor.toml names no secondaries")
            .advice("add each: [[secondaries]] with name, address and key-file; see docs/settings.md"));
    }
    if !settings.dns.server.reads_zone_list() {
        return Err(Error::refused("no-dns-server", format!("{} publishes nothing", settings.dns.server.words()))
            .advice("set `server` under [dns] in harbor.toml to bind, knot or nsd"));
    }
    let (carried, ()) = context.block_on(change(context, "zone publish", &args.options, async |overlay, now| {
        let loaded = load::publish(overlay).await?;
        Ok((publish(&loaded, &overlay.settings, &overlay.layout, now)?, ()))
    }))??;
    let mut report = Published { carried, zones: vec![], waited: Duration::ZERO };
    if !args.options.dry_run {
        let started = Instant::now();
        report.zones = context.block_on(bring_in_step(context, &settings, patience))??;
        report.waited = started.elapsed();
    }
    Ok(Box::new(report))
}

/// One zone, and where each server is with it.
struct PublishedZone {
    name: Hostname,
    held: Vec<(Holder, Holding)>,
    /// What servers said to the last notification, where they did not confirm it.
    refused: Vec<(SocketAddr, String)>,
}

impl PublishedZone {
    fn in_step(&self) -> bool {
        self.held.iter().all(|(_, holding)| holding.is_in_step())
    }

    /// The serial that the primary has.
    fn newest(&self) -> Option<u32> {
        self.held.first().and_then(|(_, holding)| holding.serial())
    }

    fn refusal(&self, holder: &Holder) -> Option<&str> {
        self.refused.iter().find(|(address, _)| *address == holder.address).map(|(_, words)| words.as_str())
    }

    /// What a server lacks of the zone.
    fn lacks(&self, holding: &Holding) -> String {
        match (holding, self.newest()) {
            (Holding::Behind { serial, .. }, Some(newest)) => format!("has serial {serial}, and not yet {newest}"),
            (Holding::Not(words), _) => format!("does not have the zone: it {words}"),
            (holding, _) => holding.words(),
        }
    }
}

/// Notifies the secondaries that are behind, and asks again until none is, or the patience is over.
async fn bring_in_step(
    context: &Context,
    settings: &Settings,
    patience: Duration,
) -> Result<Vec<PublishedZone>, Error> {
    let mut zones = context.open()?.store.zones()?;
    zones.retain(|zone| zone.home == ZoneHome::Here);
    let mut keys = HashMap::new();
    let servers = secondaries(settings);
    for holder in &servers {
        if let Some(file) = &holder.notified_with {
            keys.insert(holder.address, TransactionKey::read(file)?);
        }
    }
    let mut refused: HashMap<Hostname, Vec<(SocketAddr, String)>> = HashMap::new();
    let deadline = Instant::now() + patience;
    let mut settled: Vec<PublishedZone> = Vec::new();
    let mut pause = Duration::from_millis(100);
    loop {
        context.progress.doing(&format!("asking the servers for {} zones", zones.len()));
        let of_zone = |zone: &Zone| {
            let name = zone.name.clone();
            holders(settings, zone).into_iter().map(move |holder| (holder.address, name.clone())).collect::<Vec<_>>()
        };
        let serials = ask_serials(zones.iter().flat_map(of_zone).collect()).await;
        let mut behind = Vec::new();
        for zone in zones {
            let servers = holders(settings, &zone);
            let primary = servers.first().and_then(|primary| serials.get(&(primary.address, zone.name.clone())));
            let newest = primary.and_then(|answer| answer.clone().ok()).unwrap_or_default();
            let held = servers.into_iter().map(|holder| {
                let holding = Holding::of(&holder, &zone.name, newest, &serials);
                (holder, holding)
            });
            let refused = refused.remove(&zone.name).unwrap_or_default();
            let published = PublishedZone { name: zone.name.clone(), held: held.collect(), refused };
            if published.in_step() { settled.push(published) } else { behind.push((zone, published)) }
        }
        if behind.is_empty() || Instant::now() >= deadline {
            settled.extend(behind.into_iter().map(|(_, published)| published));
            settled.sort_by(|a, b| a.name.cmp(&b.name));
            return Ok(settled);
        }
        // A secondary that does not know a zone yet refuses; the catalog brings it, so that asking again helps. The
        // catalog itself is not asked for: secondaries hide it from ordinary questions.
        let catalog = settings.dns.catalog.iter();
        let told = behind
            .iter()
            .flat_map(|(zone, published)| {
                let late = published.held.iter().filter(|(_, holding)| !holding.is_in_step());
                late.map(|(holder, _)| (&zone.name, holder))
            })
            .chain(catalog.flat_map(|name| servers.iter().map(move |holder| (name, holder))))
            .filter(|(_, holder)| keys.contains_key(&holder.address))
            .map(|(zone, holder)| Notification {
                server: holder.address,
                from: holder.notified_from,
                zone: zone.dns_name(),
            });
        for (told, error) in notify_all(told.collect(), &keys).await {
            if let Ok(zone) = Hostname::parse_zone(&told.zone.bare()) {
                refused.entry(zone).or_default().push((told.server, error.problem.to_string()));
            }
        }
        zones = behind.into_iter().map(|(zone, _)| zone).collect();
        tokio::time::sleep(pause).await;
        pause = (pause * 2).min(Duration::from_secs(5));
    }
}

struct Published {
    carried: Carried,
    zones: Vec<PublishedZone>,
    waited: Duration,
}

impl Published {
    fn behind(&self) -> impl Iterator<Item = &PublishedZone> {
        self.zones.iter().filter(|zone| !zone.in_step())
    }
}

impl Shown for Published {
    fn human(&self, page: &mut Page) {
        if self.carried.entry.is_some() || !self.carried.plan.is_empty() {
            human::change_report(page, &self.carried);
        }
        if self.zones.is_empty() {
            return;
        }
        let (behind, all) = (self.behind().count(), self.zones.len());
        let seconds = self.waited.as_secs();
        page.heading(&match behind {
            0 => format!("All secondaries have all zones ({all}), after {seconds} s."),
            _ => format!("{behind} of {all} zones are not on all secondaries after {seconds} s."),
        });
        for zone in self.behind() {
            for (holder, holding) in zone.held.iter().filter(|(_, holding)| !holding.is_in_step()) {
                let server = format!("{} ({})", holder.name, holder.address);
                page.hanging("  ", &format!("{}: {server} {}", zone.name, zone.lacks(holding)));
                if let Some(words) = zone.refusal(holder) {
                    page.hanging("    notified: ", &format!("it {words}"));
                }
            }
        }
        if behind > 0 {
            page.hanging(
                "next: ",
                "check that the secondary knows the key, this server as its primary, and the zone or \
                                    the catalog; then publish again",
            );
        }
    }

    fn json(&self) -> Value {
        let server = |zone: &PublishedZone, (holder, holding): &(Holder, Holding)| {
            json!({
                "name": holder.name,
                "address": holder.address.to_string(),
                "serial": holding.serial(),
                "in_step": holding.is_in_step(),
                "words": holding.words(),
                "notification": zone.refusal(holder),
            })
        };
        let zone = |zone: &PublishedZone| json!({ "zone": zone.name, "in_step": zone.in_step(), "servers": zone.held.iter().map(|held| server(zone, held)).collect::<Vec<_>>() });
        json!({
            "command": "zone publish",
            "change": json::ChangeDocument::from(&self.carried),
            "zones": self.zones.iter().map(zone).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        self.carried.exit(if self.behind().next().is_some() { Exit::Waits } else { Exit::Done })
    }
}
