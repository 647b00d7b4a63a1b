//! `nameserver check`: each server of a set on all three sides, before, during and after its registration: registry, zone,
//! and the server itself, each asked directly.

use std::collections::BTreeMap;
use std::net::IpAddr;

use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::nameserver::{HostSeen, InZone, NextStep, Registration, Said, Weakness, weaknesses};
use brightharbor_core::zone::{Record, RecordData, Zone, ZoneHome};
use brightharbor_io::dns::Walker;
use brightharbor_io::harbor::Harbor;
use brightharbor_io::host_look::look_at_set;
use brightharbor_io::zones::read_zone;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_set};
use crate::error::{Error, Exit};
use crate::network::NetworkOptions;
use crate::run::Context;
use crate::show::human::{Page, table};
use crate::show::words::weakness;
use crate::show::{Shown, joined};

/// Check a nameserver set: what the registry has, what the zone says, and whether each server answers.
///
/// Before a nameserver is registered, while the registry publishes it, and afterwards.
#[derive(Debug, Args)]
pub struct Check {
    /// The set; `host` for that of [host] in harbor.toml.
    set: String,
    #[command(flatten)]
    network: NetworkOptions,
}

/// Domains that use the set and are looked at to see its servers at work.
const MOST_LOOKED_AT: usize = 3;

pub fn run(args: &Check, context: &Context) -> Report {
    let network = args.network.network(context)?;
    let Some(harbor) = &network.harbor else {
        return Err(context.open().err().unwrap_or_else(|| Error::wrong_use("no harbor")));
    };
    let set = find_set(harbor, &args.set)?;
    let wanted = (args.set != "host").then_some(args.set.as_str());
    let mut zones = harbor.store.zones()?;
    let here = own_addresses(harbor, &set, &zones, context)?;
    zones.retain(|zone| zone.nameserver_set.as_deref() == wanted);
    let of_set: Vec<Hostname> = zones.into_iter().take(MOST_LOOKED_AT).map(|zone| zone.name).collect();
    context.progress.doing(&format!("asking registry, zone and servers of {}", args.set));
    let members = context.block_on(async {
        let walker = Walker::new(args.network.per_server).await;
        look_at_set(&network.settings, &walker, &set, &of_set).await
    })?;
    Ok(Box::new(SetChecked { name: args.set.clone(), members, here, weaknesses: weaknesses(&set) }))
}

/// The zones that can be changed from here and hold names of a set, with the address records of these names. One that cannot
/// be read has none.
fn own_addresses(
    harbor: &Harbor,
    set: &NameserverSet,
    zones: &[Zone],
    context: &Context,
) -> Result<BTreeMap<Hostname, Vec<Record>>, Error> {
    let mut all = BTreeMap::new();
    for zone in zones.iter().filter(|zone| zone.home != ZoneHome::Elsewhere) {
        if set.nameservers.iter().any(|name| name.is_within(&zone.name.dns_name())) {
            let read = context.block_on(read_zone(harbor, zone))?;
            let records = read.map(|kept| kept.document.records().cloned().collect::<Vec<_>>()).unwrap_or_default();
            let of_set = |record: &Record| set.nameservers.contains(&record.owner) && record.data.address().is_some();
            all.insert(zone.name.clone(), records.into_iter().filter(of_set).collect());
        }
    }
    Ok(all)
}

struct SetChecked {
    name: String,
    members: Vec<HostSeen>,
    here: BTreeMap<Hostname, Vec<Record>>,
    weaknesses: Vec<Weakness>,
}

fn registry_words(member: &HostSeen) -> String {
    match member.registration() {
        Registration::Unseen(why) => format!("not seen: {why}"),
        Registration::Absent if member.needs_glue => "no address, and nobody finds it without".into(),
        Registration::Absent => "no address".into(),
        Registration::NotNeeded => "no address, none needed".into(),
        Registration::Spreading { having, servers } => format!("{having} of {servers} servers have it"),
        Registration::Differs { missing, strange } => differs(&missing, &strange),
        Registration::Complete => addresses_of(&member.registry),
    }
}

fn zone_words(member: &HostSeen) -> String {
    match member.in_zone() {
        InZone::Unseen => "nobody answers for it".into(),
        InZone::Complete => addresses_of(&member.zone),
        InZone::Differs { missing, strange, .. } if missing.is_empty() && strange.is_empty() => "no address".into(),
        InZone::Differs { missing, strange, servers } => {
            let some = if servers < member.zone.len() {
                format!(" ({servers} of {})", member.zone.len())
            } else {
                String::new()
            };
            differs(&missing, &strange) + &some
        }
    }
}

fn addresses_of(said: &[Said]) -> String {
    said.iter().find(|said| !said.addresses.is_empty()).map(|said| joined(said.addresses.iter())).unwrap_or_default()
}

fn differs(missing: &[IpAddr], strange: &[IpAddr]) -> String {
    let mut words = Vec::new();
    if !missing.is_empty() {
        words.push(format!("{} missing", joined(missing)));
    }
    if !strange.is_empty() {
        words.push(format!("{} not of the set", joined(strange)));
    }
    words.join("; ")
}

impl SetChecked {
    fn open(&self) -> usize {
        self.members.iter().filter(|member| !member.holds()).count()
    }

    fn waiting(&self) -> usize {
        self.members.iter().filter(|member| member.waits()).count()
    }

    /// What is to be done about one nameserver, as commands where this harbor can do it.
    fn next_words(&self, name: &DnsName, step: &NextStep) -> Vec<String> {
        let host = name.bare();
        match step {
            NextStep::StartServer { server, zone, state } => {
                vec![format!("{host} must answer for {} at {server}; now: {}", zone.bare(), state.words())]
            }
            NextStep::EnterInZone { domain, missing, strange } => {
                let record =
                    |address: &IpAddr| format!("{host} {} {address}", RecordData::of_address(*address).record_type());
                let ours = self.here.iter().find(|(zone, _)| zone.dns_name() == *domain);
                let Some((zone, records)) = ours else {
                    let place = format!("in the zone {}", domain.bare());
                    let add = missing.iter().map(|address| format!("{place}, add the record {}", record(address)));
                    let remove =
                        strange.iter().map(|address| format!("{place}, remove the record {}", record(address)));
                    return add.chain(remove).collect();
                };
                let has = |address: &&IpAddr| {
                    records.iter().any(|one| one.owner == *name && one.data.address() == Some(**address))
                };
                let add = missing.iter().filter(|one| !has(one)).map(|one| ("add", one));
                let remove = strange.iter().filter(has).map(|one| ("remove", one));
                let mut steps: Vec<String> = add
                    .chain(remove)
                    .map(|(verb, address)| format!("brightharbor record {verb} {}", record(address)))
                    .collect();
                // Where the file is right, it is not what the world is answered.
                if steps.is_empty() {
                    steps.push(format!(
                        "the zone {zone} here says so already, and the world is answered otherwise: brightharbor \
                         delegation check {zone}"
                    ));
                }
                steps
            }
            NextStep::Register { domain, addresses } => {
                vec![format!(
                    "at the registrar of {}, register the host {host} with {}",
                    domain.bare(),
                    joined(addresses)
                )]
            }
            NextStep::GiveAddresses { domain, addresses } => {
                let to = joined(addresses);
                vec![format!("at the registrar of {}, give the host {host} the addresses {to}", domain.bare())]
            }
            NextStep::Wait => vec![format!("the registry is publishing {host}: check again in a while")],
        }
    }

    fn steps(&self, member: &HostSeen) -> Vec<String> {
        member.next().iter().flat_map(|step| self.next_words(&member.name, step)).collect()
    }
}

impl Shown for SetChecked {
    fn human(&self, page: &mut Page) {
        let (open, all) = (self.open(), self.members.len());
        page.heading(&match open {
            0 => format!("{}: all {all} nameservers are as they should be, on all sides", self.name),
            open if open == self.waiting() => {
                format!("{}: {open} of {all} nameservers wait for the registry", self.name)
            }
            open => format!("{}: {open} of {all} nameservers are not as they should be", self.name),
        });
        self.weaknesses.iter().for_each(|one| page.hanging("  note: ", &weakness(one).sentence()));
        page.blank();
        let rows = self.members.iter().map(|member| {
            let word = |one: &brightharbor_core::nameserver::Answering| {
                format!("{}: {}: {}", one.server, one.zone.bare(), one.state.words())
            };
            let servers: Vec<String> = member.servers.iter().map(word).collect();
            let servers = if servers.is_empty() { "not asked: no address".to_string() } else { servers.join("\n") };
            vec![member.name.bare(), registry_words(member), zone_words(member), servers]
        });
        table(page, &["nameserver", "registry", "zone", "server"], rows.collect());
        let steps: Vec<String> = self.members.iter().flat_map(|member| self.steps(member)).collect();
        if !steps.is_empty() {
            page.blank();
        }
        steps.iter().enumerate().for_each(|(at, step)| page.hanging(&format!("{:>2}. ", at + 1), step));
    }

    fn json(&self) -> Value {
        let side = |said: &Said| {
            json!({
                "server": said.server.to_string(),
                "addresses": said.addresses.iter().map(ToString::to_string).collect::<Vec<_>>(),
                "failed": said.failed,
            })
        };
        let sides = |all: &[Said]| all.iter().map(side).collect::<Vec<_>>();
        let member = |member: &HostSeen| {
            let registration = match member.registration() {
                Registration::Unseen(_) => "unseen",
                Registration::Absent => "absent",
                Registration::NotNeeded => "not-needed",
                Registration::Spreading { .. } => "spreading",
                Registration::Differs { .. } => "differs",
                Registration::Complete => "complete",
            };
            let in_zone = match member.in_zone() {
                InZone::Unseen => "unseen",
                InZone::Differs { .. } => "differs",
                InZone::Complete => "complete",
            };
            json!({
                "name": member.name.bare(),
                "holds": member.holds(),
                "addresses": member.wanted.iter().map(ToString::to_string).collect::<Vec<_>>(),
                "registry": { "state": registration, "words": registry_words(member), "servers": sides(&member.registry) },
                "zone": { "state": in_zone, "words": zone_words(member), "servers": sides(&member.zone) },
                "servers": member.servers.iter().map(|one| json!({
                    "address": one.server.to_string(),
                    "zone": one.zone.bare(),
                    "holds": one.state.has_authority(),
                    "words": one.state.words(),
                })).collect::<Vec<_>>(),
                "next": self.steps(member),
            })
        };
        json!({
            "command": "nameserver check",
            "set": self.name,
            "nameservers": self.members.iter().map(member).collect::<Vec<_>>(),
            "weaknesses": self.weaknesses.iter().map(|one| weakness(one).document(true)).collect::<Vec<_>>(),
        })
    }

    fn exit(&self) -> Exit {
        match (self.open(), self.waiting()) {
            (0, _) => Exit::Done,
            (open, waiting) if open == waiting => Exit::Waits,
            _ => Exit::Fault,
        }
    }
}
