//! What decisions about nameserver sets tell.

use brightharbor_core::name::{DnsName, Hostname};
use brightharbor_core::nameserver::{Move, NameserverRemark, Weakness};
use brightharbor_io::clock;
use jiff::SignedDuration;

use super::{Told, listed};
use crate::show::human::when;
use crate::show::{counted, joined};

pub(super) fn told(remark: &NameserverRemark) -> Told {
    use NameserverRemark as Is;
    match remark {
        Is::Added { set, nameservers } => {
            let names: Vec<String> = nameservers.iter().map(DnsName::bare).collect();
            let what = format!("nameserver set {set}: {}", names.join(", "));
            Told::act("nameserver-set-created", "Created", "create", what)
                .with("set", set.as_str())
                .with("nameservers", names)
        }
        Is::Removed { set } => {
            let what = format!("nameserver set {set}; address records and host objects at the registrar stay");
            Told::act("nameserver-set-removed", "Removed", "remove", what).with("set", set.as_str())
        }
        Is::Weakness(weakness) => weak(weakness),
        Is::EnterElsewhere { nameserver, zone } => {
            let words = format!("{}: enter its addresses where zone {zone} is kept", nameserver.bare());
            Told::fact("enter-addresses-elsewhere", words)
                .with("nameserver", nameserver.bare())
                .with("zone", zone.as_str())
        }
        Is::RegisterHost { domain, nameserver, addresses } => {
            let words = format!(
                "At the registrar of {domain}, register the host {} with {}",
                nameserver.bare(),
                joined(addresses)
            );
            Told::fact("register-host", words)
                .with("domain", domain.as_str())
                .with("nameserver", nameserver.bare())
                .with("addresses", addresses.iter().map(ToString::to_string).collect::<Vec<_>>())
        }
        Is::Moves(moving) => moves(moving),
        Is::Joins { moved, set, domains } => joins(moved, set, *domains),
        Is::Leaves { nameserver, set, domains } => leaves(nameserver, set, *domains),
        Is::Capacity { set, domains } => {
            let what = format!("the capacity of {set} to {}", counted(*domains as usize, "domain"));
            Told::act("capacity-set", "Set", "set", what).with("set", set.as_str()).with("domains", *domains)
        }
        Is::Delegated { set, domains } => {
            let words = format!(
                "{} delegated to {set}: their delegation names the servers and stays as it is",
                counted(*domains as usize, "domain")
            );
            Told::fact("domains-delegated", words).with("set", set.as_str()).with("domains", *domains)
        }
    }
}

/// What is cached for longer is worth preparing a move for.
const LONG_CACHED: SignedDuration = SignedDuration::from_mins(10);

/// The steps in their order.
fn moves(moving: &Move) -> Told {
    let Move { nameserver, before, after, zone, domain, cached_until } = moving;
    let (name, to) = (nameserver.bare(), joined(after));
    let mut steps = vec![];
    let long = cached_until.duration_since(clock::now()) > LONG_CACHED && !before.is_empty();
    if let Some(zone) = zone.as_ref().filter(|_| long) {
        steps.push(format!("for a short change-over, some time ahead: brightharbor zone prepare-move {zone}"));
    }
    steps.push(format!("{name} must answer at {to}"));
    steps.extend(zone.as_ref().map(|zone| format!("its records in zone {zone} change with this command")));
    steps.extend(
        domain.as_ref().map(|domain| format!("at the registrar of {domain}, give the host {name} the addresses {to}")),
    );
    if !before.is_empty() {
        steps.push(format!(
            "{} must keep answering until {}, and for two days after the registrar's change",
            joined(before),
            when(*cached_until, clock::now())
        ));
    }
    Told::fact("nameserver-moves", format!("{name} moves to {to}"))
        .detail(numbered(&steps))
        .with("nameserver", name)
        .with("before", before.iter().map(ToString::to_string).collect::<Vec<_>>())
        .with("after", after.iter().map(ToString::to_string).collect::<Vec<_>>())
        .with("zone", zone.as_ref().map(Hostname::as_str))
        .with("domain", domain.as_ref().map(Hostname::as_str))
        .with("old_until", cached_until.to_string())
}

/// Steps with their numbers, one a line.
fn numbered(steps: &[String]) -> String {
    steps.iter().enumerate().map(|(at, step)| format!("{}. {step}\n", at + 1)).collect()
}

/// It serves, it can be found, the zones name it, and only then the world is sent to it.
fn joins(moved: &Move, set: &str, domains: u32) -> Told {
    let Move { nameserver, after, zone, domain, .. } = moved;
    let (name, count) = (nameserver.bare(), counted(domains as usize, "domain"));
    let mut steps = vec![];
    if domains > 0 {
        steps.push(format!("{name} must serve the {count} of {set}"));
    }
    steps.extend(zone.as_ref().map(|zone| format!("its records in zone {zone} are added with this command")));
    if let (Some(domain), false) = (domain, after.is_empty()) {
        steps.push(format!("at the registrar of {domain}, register the host {name} with {}", joined(after)));
    }
    if domains > 0 {
        steps.push("name it in the zones: brightharbor zone realign --all".into());
        steps.push(format!("add it at the registrars of the {count}: brightharbor delegation handover DOMAIN"));
    }
    Told::act("nameserver-joins", "Added", "add", format!("{name} to nameserver set {set}"))
        .detail(numbered(&steps))
        .with("nameserver", name)
        .with("set", set)
        .with("addresses", after.iter().map(ToString::to_string).collect::<Vec<_>>())
        .with("domains", domains)
}

/// Nobody is sent to it any more before it stops answering.
fn leaves(nameserver: &DnsName, set: &str, domains: u32) -> Told {
    let (name, count) = (nameserver.bare(), counted(domains as usize, "domain"));
    let steps = match domains {
        0 => vec![format!("{name} may stop answering; its address records and its host object stay")],
        _ => vec![
            "take it out of the zones: brightharbor zone realign --all".into(),
            format!("take it out at the registrars of the {count}: brightharbor delegation handover DOMAIN"),
            format!("{name} must keep answering until the last of them has done so, and for two days after"),
        ],
    };
    Told::act("nameserver-leaves", "Removed", "remove", format!("{name} from nameserver set {set}"))
        .detail(numbered(&steps))
        .with("nameserver", name)
        .with("set", set)
        .with("domains", domains)
}

/// What makes a set fail easily.
pub fn weak(weakness: &Weakness) -> Told {
    match weakness {
        Weakness::OnlyOne(name) => {
            let words = format!("{} is the only nameserver: a single point of failure", name.bare());
            Told::fact("single-nameserver", words).with("nameserver", name.bare())
        }
        Weakness::SameAddress { nameservers, address } => {
            let names: Vec<String> = nameservers.iter().map(DnsName::bare).collect();
            let words = format!("{} share the address {address}: one server under two names", listed(&names));
            Told::fact("same-address", words).with("nameservers", names).with("address", address.to_string())
        }
        Weakness::OneNetwork => {
            Told::fact("one-network", "All nameservers are in one network: a single point of failure")
        }
        Weakness::NoAddress(name) => {
            let words = format!("{}: no address given, so it must resolve without this harbor", name.bare());
            Told::fact("no-address", words).with("nameserver", name.bare())
        }
    }
}
