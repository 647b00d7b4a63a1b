//! `nameserver check`: each server of a set on all three sides: registry, zone, and the server itself.

use std::collections::BTreeSet;
use std::net::IpAddr;

use brightharbor_core::delegation::{Picture, ServerState};
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::{DnsName, Hostname, registrable_domain};
use brightharbor_core::nameserver::{Weakness, weaknesses};
use brightharbor_io::dns::Walker;
use clap::Args;
use serde_json::{Value, json};

use crate::commands::{Report, find_set};
use crate::error::{Error, Exit};
use crate::network::{Network, NetworkOptions};
use crate::run::Context;
use crate::show::Shown;
use crate::show::human::{Page, table};
use crate::show::words::weakness;

/// Check a nameserver set: what the registry has, what the zone says, and whether each server answers.
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
    zones.retain(|zone| zone.nameserver_set.as_deref() == wanted);
    let own = set.nameservers.iter().filter_map(|name| registrable_domain(&Hostname::parse(&name.bare()).ok()?));
    let mut domains: BTreeSet<Hostname> = own.collect();
    domains.extend(zones.iter().take(MOST_LOOKED_AT).map(|zone| zone.name.clone()));
    let pictures = context.block_on(look(&network, &domains, args.network.per_server, context))??;
    let members = set.nameservers.iter().map(|name| Seen::of(name, &set, &pictures)).collect();
    Ok(Box::new(SetChecked { name: args.set.clone(), members, weaknesses: weaknesses(&set) }))
}

async fn look(
    network: &Network,
    domains: &BTreeSet<Hostname>,
    per_server: u32,
    context: &Context,
) -> Result<Vec<Picture>, Error> {
    let walker = Walker::new(per_server).await;
    let mut pictures = Vec::new();
    for domain in domains {
        context.progress.doing(&format!("asking the servers of {domain}"));
        pictures.push(walker.walk(network.brief(domain)?).await.picture);
    }
    Ok(pictures)
}

/// One nameserver on its three sides.
struct Seen {
    name: DnsName,
    registry: Side,
    zone: Side,
    servers: Vec<(String, String, bool)>,
}

struct Side {
    words: String,
    holds: bool,
}

impl Seen {
    fn of(name: &DnsName, set: &NameserverSet, pictures: &[Picture]) -> Self {
        let mut wanted = set.addresses.get(name).cloned().unwrap_or_default();
        wanted.sort();
        let seen: Vec<_> =
            pictures.iter().flat_map(|picture| &picture.nameservers).filter(|seen| seen.name == *name).collect();
        let all = |addresses: fn(&brightharbor_core::delegation::NameserverSeen) -> &Vec<IpAddr>| {
            let found: BTreeSet<IpAddr> = seen.iter().flat_map(|seen| addresses(seen).clone()).collect();
            found.into_iter().collect::<Vec<IpAddr>>()
        };
        let (glue, own) = (all(|seen| &seen.glue), all(|seen| &seen.addresses));
        let registry = match (seen.is_empty(), glue.is_empty()) {
            (true, _) => Side { words: "named by no domain that was looked at".into(), holds: false },
            (false, true) => Side { words: "named; no address there".into(), holds: wanted.is_empty() },
            (false, false) => side(&glue, &wanted),
        };
        let zone = match own.is_empty() {
            true => Side { words: "no address found".into(), holds: false },
            false => side(&own, &wanted),
        };
        let mut servers: Vec<(String, String, bool)> = Vec::new();
        for (picture, server) in pictures.iter().flat_map(|picture| {
            let of_name = picture.nameservers.iter().filter(|seen| seen.name == *name);
            of_name.flat_map(move |seen| seen.servers.iter().map(move |server| (picture, server)))
        }) {
            let holds = matches!(server.state, ServerState::Authoritative { .. } | ServerState::NoRoute);
            let words = format!("{}: {}", picture.domain.bare(), server.state.words());
            servers.push((server.address.to_string(), words, holds));
        }
        Self { name: name.clone(), registry, zone, servers }
    }

    fn holds(&self) -> bool {
        self.registry.holds
            && self.zone.holds
            && !self.servers.is_empty()
            && self.servers.iter().all(|(_, _, holds)| *holds)
    }
}

/// What was found against what the set says; without addresses in the set, whatever was found is right.
fn side(found: &[IpAddr], wanted: &[IpAddr]) -> Side {
    let shown = |addresses: &[IpAddr]| addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
    let holds = wanted.is_empty() || found == wanted;
    let words = if holds { shown(found) } else { format!("{}, not {}", shown(found), shown(wanted)) };
    Side { words, holds }
}

struct SetChecked {
    name: String,
    members: Vec<Seen>,
    weaknesses: Vec<Weakness>,
}

impl SetChecked {
    fn open(&self) -> usize {
        self.members.iter().filter(|member| !member.holds()).count()
    }
}

impl Shown for SetChecked {
    fn human(&self, page: &mut Page) {
        let (open, all) = (self.open(), self.members.len());
        page.heading(&match open {
            0 => format!("{}: all {all} nameservers are as they should be, on all sides", self.name),
            open => format!("{}: {open} of {all} nameservers are not as they should be", self.name),
        });
        self.weaknesses.iter().for_each(|one| page.hanging("  note: ", &weakness(one).sentence()));
        page.blank();
        let rows = self.members.iter().map(|member| {
            let servers = member.servers.iter().map(|(address, words, _)| format!("{address}: {words}"));
            let servers: Vec<String> = servers.collect();
            let servers = if servers.is_empty() { "not asked".to_string() } else { servers.join("\n") };
            vec![member.name.bare(), member.registry.words.clone(), member.zone.words.clone(), servers]
        });
        table(page, &["nameserver", "registry", "zone", "server"], rows.collect());
    }

    fn json(&self) -> Value {
        let member = |member: &Seen| {
            json!({
                "name": member.name.bare(),
                "holds": member.holds(),
                "registry": { "holds": member.registry.holds, "words": member.registry.words },
                "zone": { "holds": member.zone.holds, "words": member.zone.words },
                "servers": member.servers.iter().map(|(address, words, holds)| json!({
                    "address": address, "holds": holds, "words": words,
                })).collect::<Vec<_>>(),
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
        if self.open() == 0 { Exit::Done } else { Exit::Fault }
    }
}
