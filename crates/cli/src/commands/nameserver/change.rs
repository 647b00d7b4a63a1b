//! `nameserver change`: a server of a set moves to other addresses. What must follow, in which order, and until when the
//! old address must keep answering.

use std::net::{IpAddr, SocketAddr};

use brightharbor_core::change::{ChangeSet, InventoryChange};
use brightharbor_core::delegation::{Outcome, Question, Reply};
use brightharbor_core::harbor::NameserverSet;
use brightharbor_core::name::{DnsName, Hostname, registrable_domain};
use brightharbor_core::nameserver::Member;
use brightharbor_core::zone::{RecordType, default_ttl, serial_date};
use brightharbor_io::dns::ask;
use brightharbor_io::harbor::Harbor;
use clap::Args;
use jiff::{SignedDuration, Timestamp};

use super::list::unknown_member;
use super::{bring_addresses, find_own, zone_of};
use crate::commands::Report;
use crate::error::Error;
use crate::options::ChangeOptions;
use crate::pending;
use crate::run::{Context, Decision, change};
use crate::show::human::when;
use crate::show::{ChangeReport, counted};

/// Change a nameserver set: new addresses of its servers, its capacity.
#[derive(Debug, Args)]
pub struct ChangeSetMembers {
    /// The set.
    set: String,
    /// Nameservers of the set with their new addresses: NAME=ADDRESS,ADDRESS.
    #[arg(value_name = "NAME=ADDRESS,...")]
    members: Vec<Member>,
    /// For how many domains it is made.
    #[arg(long, value_name = "COUNT")]
    capacity: Option<u32>,
    /// Change the addresses although the servers do not answer there yet.
    #[arg(long)]
    unready: bool,
    #[command(flatten)]
    options: ChangeOptions,
}

/// What registries give glue for, where the parent could not be asked: two days.
const GLUE_TTL: u32 = 172_800;

pub fn run(args: &ChangeSetMembers, context: &Context) -> Report {
    if let Some(bare) = args.members.iter().find(|member| member.addresses.is_empty()) {
        return Err(Error::wrong_use(format!("no new address is given for {}", bare.name.bare()))
            .advice(format!("give it as {}=ADDRESS", bare.name.bare())));
    }
    let title = format!("nameserver change {}", args.set);
    let changed = context.block_on(change(context, &title, &args.options, async |harbor, now| {
        let before = find_own(harbor, &args.set)?;
        let mut after = NameserverSet { capacity: args.capacity.or(before.capacity), ..before.clone() };
        let mut said = Vec::new();
        let mut changes = ChangeSet::new(&title);
        let mut step = 0;
        for member in &args.members {
            if !before.nameservers.contains(&member.name) {
                return Err(unknown_member(&member.name.bare(), &args.set));
            }
            let old = before.addresses.get(&member.name).cloned().unwrap_or_default();
            if old == member.addresses {
                continue;
            }
            for address in &member.addresses {
                refuse_unready(args, harbor, &member.name, *address).await?;
            }
            let mut number = |text: String| {
                step += 1;
                said.push(format!("{step}. {text}"));
            };
            number(format!("{} must answer at {}", member.name.bare(), shown(&member.addresses)));
            if let Some(zone) = zone_of(harbor, &member.name)? {
                number(format!("its records in the zone {} are changed now", zone.name));
            }
            if let Some(domain) = Hostname::parse(&member.name.bare()).ok().and_then(|name| registrable_domain(&name)) {
                let to = shown(&member.addresses);
                number(format!(
                    "at the registrar of {domain}, give the host {} the addresses {to}",
                    member.name.bare()
                ));
            }
            if !old.is_empty() {
                let until = keeps_until(harbor, &member.name, now, &changes).await?;
                let (old, until) = (shown(&old), when(until, now));
                number(format!(
                    "{old} must keep answering: until {until} for those who have the zone's address, and for two days \
                     after the registrar's change for those who have the parent's"
                ));
            }
            after.addresses.insert(member.name.clone(), member.addresses.clone());
        }
        if after != before {
            let today = serial_date(now);
            said.extend(bring_addresses(harbor, &after, today, &mut changes).await?);
            if after.capacity != before.capacity {
                said.push(format!("it is made for {} domains", after.capacity.unwrap_or_default()));
            }
            let users = counted(harbor.store.zones_with_set(Some(&args.set))? as usize, "domain");
            said.push(format!("{users} delegated to the set: their delegation names the servers, and stays as it is"));
            let (name, before) = (args.set.clone(), Some(before));
            changes.inventory(InventoryChange::SetNameservers { name, before, after });
        } else {
            said = vec!["nothing is to be changed".into()];
        }
        Ok(Decision { set: changes, said })
    }))??;
    Ok(Box::new(ChangeReport { command: "nameserver change", changed }))
}

fn shown(addresses: &[IpAddr]) -> String {
    addresses.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// The server must answer with authority at its new address before the world is sent there.
async fn refuse_unready(
    args: &ChangeSetMembers,
    harbor: &Harbor,
    name: &DnsName,
    address: IpAddr,
) -> Result<(), Error> {
    if args.unready || args.options.dry_run {
        return Ok(());
    }
    let mut zones = harbor.store.zones()?;
    zones.retain(|zone| zone.nameserver_set.as_deref() == Some(args.set.as_str()));
    let Some(zone) = zones.first() else { return Ok(()) };
    let server = SocketAddr::new(address, harbor.settings.internet.dns_port());
    let question = Question::authoritative(server, &zone.name.dns_name(), RecordType::SOA);
    let outcome = ask(&question).await.outcome;
    match &outcome {
        Outcome::Reply(reply) if reply.authoritative && reply.rcode == Reply::NOERROR => Ok(()),
        other => {
            let message =
                format!("{} at {server} does not serve {} yet: it {}", name.bare(), zone.name, other.in_words());
            Err(Error::refused("server-not-ready", message)
                .advice("have the server answer at the new address first; or change it anyway with --unready"))
        }
    }
}

/// Until when resolvers may still have the old address from the zone.
async fn keeps_until(harbor: &Harbor, name: &DnsName, now: Timestamp, changes: &ChangeSet) -> Result<Timestamp, Error> {
    let ttl = match zone_of(harbor, name)? {
        Some(zone) => pending::zone(harbor, &zone, changes).await?.map(|kept| {
            let present = kept.document.records().filter(|r| r.owner == *name && r.data.address().is_some());
            present.map(|record| record.ttl).max().unwrap_or_else(|| default_ttl(&kept.document))
        }),
        None => None,
    };
    Ok(now.checked_add(SignedDuration::from_secs(ttl.unwrap_or(GLUE_TTL).into())).unwrap_or(now))
}
