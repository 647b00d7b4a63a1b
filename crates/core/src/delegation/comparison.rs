//! Parent, zone and servers side by side: who names whom, with what address, and who answers what. Differences are told
//! in words.

use std::net::IpAddr;

use serde::Serialize;

use super::{Chain, Ds, NameserverSeen, Picture, Reached, ServerSeen, ServerState};
use crate::name::DnsName;
use crate::zone::{serial_is_newer, show_seconds};

/// One line of the comparison.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Compared {
    pub what: String,
    pub parent: String,
    pub zone: String,
    pub servers: Vec<String>,
}

/// The whole comparison: a line for each nameserver that anybody names or expects, then times to live, then keys.
pub fn compare(picture: &Picture, expected: &[DnsName]) -> Vec<Compared> {
    let at_parent = picture.delegated_names();
    let in_zone = names_in_zone(picture);
    let mut names: Vec<&DnsName> = at_parent.iter().chain(in_zone.iter().flatten()).chain(expected).collect();
    names.sort();
    names.dedup();
    let newest = newest_serial(picture);
    let mut lines: Vec<Compared> = names
        .into_iter()
        .map(|name| {
            let seen = picture.nameservers.iter().find(|seen| seen.name == *name);
            Compared {
                what: name.bare(),
                parent: match (at_parent.contains(name), expected.contains(name)) {
                    (true, false) if !expected.is_empty() => named(seen.map(|seen| &seen.glue)) + ", not expected",
                    (true, _) => named(seen.map(|seen| &seen.glue)),
                    (false, true) => "missing".into(),
                    (false, false) => "not named".into(),
                },
                zone: match &in_zone {
                    None => "nobody to ask".into(),
                    Some(names) if names.contains(name) => own_addresses(seen),
                    Some(_) => "not named".into(),
                },
                servers: servers(seen, newest),
            }
        })
        .collect();
    lines.extend(times(picture));
    lines.extend(keys(picture));
    lines.extend(signatures(picture));
    lines
}

/// What somebody who verifies signatures makes of the parent's word and of each server's.
fn signatures(picture: &Picture) -> Option<Compared> {
    let parent = match &picture.chain {
        Chain::Unasked => return None,
        Chain::Unanchored if picture.ds.is_empty() => return None,
        Chain::Unanchored => "no key of the root to verify from".into(),
        Chain::Secure => "verified from the root down".into(),
        Chain::Insecure { zone } if *zone == picture.domain => "proven not to be signed".into(),
        Chain::Insecure { zone } => format!("{} is not signed", zone.bare()),
        Chain::Broken { zone, .. } => format!("cannot be verified from {} on", zone.bare()),
        Chain::NotSeen { .. } => "not seen".into(),
    };
    let counts = picture.ds.iter().any(Ds::is_supported) && picture.chain.leads_on();
    let word = |server: &ServerSeen| match server.probed.flaws.is_empty() {
        true => format!("{}: verified", server.address),
        false => format!("{}: refused", server.address),
    };
    let fits = |server: &&ServerSeen| {
        server.probed.keys.iter().any(|key| picture.ds.iter().any(|ds| ds.is_of(key, &picture.domain)))
    };
    let servers: Vec<&ServerSeen> = picture.authoritative_servers().map(|(_, server)| server).collect();
    let servers = if counts { servers.into_iter().filter(fits).map(word).collect() } else { vec![] };
    Some(Compared { what: "signatures".into(), parent, zone: String::new(), servers })
}

/// The NS records as the first server with authority gives them.
fn names_in_zone(picture: &Picture) -> Option<Vec<DnsName>> {
    picture.authoritative_servers().find_map(|(_, server)| match &server.state {
        ServerState::Authoritative { nameservers, .. } => Some(nameservers.clone()),
        _ => None,
    })
}

fn newest_serial(picture: &Picture) -> Option<u32> {
    let serials = picture.servers().filter_map(|(_, server)| serial(server));
    serials.reduce(|a, b| if serial_is_newer(b, a) { b } else { a })
}

fn serial(server: &ServerSeen) -> Option<u32> {
    match server.state {
        ServerState::Authoritative { serial, .. } => Some(serial),
        _ => None,
    }
}

fn listed(addresses: &[IpAddr]) -> String {
    addresses.iter().map(IpAddr::to_string).collect::<Vec<_>>().join(", ")
}

fn named(glue: Option<&Vec<IpAddr>>) -> String {
    match glue.filter(|glue| !glue.is_empty()) {
        Some(glue) => format!("named, {}", listed(glue)),
        None => "named".into(),
    }
}

fn own_addresses(seen: Option<&NameserverSeen>) -> String {
    match seen {
        Some(seen) if seen.alias.is_some() => "named, an alias".into(),
        Some(seen) if seen.addresses.is_empty() => "named, no address".into(),
        Some(seen) if !seen.glue.is_empty() && seen.glue == seen.addresses => "named, the same".into(),
        Some(seen) if !seen.glue.is_empty() => format!("named, differs: {}", listed(&seen.addresses)),
        Some(seen) => format!("named, {}", listed(&seen.addresses)),
        None => "named".into(),
    }
}

fn servers(seen: Option<&NameserverSeen>, newest: Option<u32>) -> Vec<String> {
    match seen {
        None => vec!["not asked: the parent does not name it".into()],
        Some(seen) if seen.servers.is_empty() => vec!["cannot be asked: no address".into()],
        Some(seen) => seen.servers.iter().map(|server| server_words(server, newest)).collect(),
    }
}

fn server_words(server: &ServerSeen, newest: Option<u32>) -> String {
    let mut words = match &server.state {
        ServerState::Authoritative { serial, .. } => match newest {
            Some(newest) if newest != *serial => {
                format!("{}, {} behind", server.state.words(), newest.wrapping_sub(*serial))
            }
            _ => server.state.words(),
        },
        other => other.words(),
    };
    let probed = &server.probed;
    match (&probed.udp, &probed.tcp) {
        (Reached::Works, Reached::Failed(_)) => words.push_str(", UDP alone"),
        (Reached::Failed(_), Reached::Works) => words.push_str(", TCP alone"),
        _ => {}
    }
    if probed.edns == Some(false) {
        words.push_str(", no EDNS");
    }
    format!("{}: {words}", server.address)
}

fn times(picture: &Picture) -> Option<Compared> {
    let parent = picture.delegation()?.ttl;
    let zone = picture.authoritative_servers().find_map(|(_, server)| server.probed.ns_ttl);
    let shown = |seconds: u32| show_seconds(seconds.into());
    Some(Compared {
        what: "time to live".into(),
        parent: shown(parent),
        zone: match zone {
            None => "nobody to ask".into(),
            Some(zone) if zone == parent => "the same".into(),
            Some(zone) => format!("differs: {}", shown(zone)),
        },
        servers: vec![],
    })
}

fn keys(picture: &Picture) -> Option<Compared> {
    let keys = picture.authoritative_servers().map(|(_, server)| &server.probed.keys).find(|keys| !keys.is_empty());
    if picture.ds.is_empty() && keys.is_none() {
        return None;
    }
    let tags = |tags: Vec<u16>| tags.iter().map(u16::to_string).collect::<Vec<_>>().join(", ");
    let parent = match picture.ds.is_empty() {
        true => "no DS".into(),
        false => format!("DS {}", tags(picture.ds.iter().map(|ds| ds.key_tag).collect())),
    };
    let zone = match keys {
        None => "no key".into(),
        Some(keys) => {
            let fits = keys.iter().any(|key| picture.ds.iter().any(|ds| ds.is_of(key, &picture.domain)));
            let word = if fits { "fits" } else { "does not fit" };
            format!("key {}, {word}", tags(keys.iter().map(|key| key.key_tag).collect()))
        }
    };
    Some(Compared { what: "keys".into(), parent, zone, servers: vec![] })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::delegation::{ParentAnswer, Probed, Registered, ServerSeen};

    fn name(text: &str) -> DnsName {
        DnsName::absolute(text).unwrap()
    }

    fn seen(text: &str, glue: &[&str], addresses: &[&str], serial: u32, in_zone: &[&str]) -> NameserverSeen {
        let parsed = |texts: &[&str]| texts.iter().map(|text| text.parse().unwrap()).collect::<Vec<IpAddr>>();
        let nameservers = in_zone.iter().map(|text| name(text)).collect();
        NameserverSeen {
            name: name(text),
            glue: parsed(glue),
            addresses: parsed(addresses),
            alias: None,
            servers: vec![ServerSeen {
                address: "192.0.2.53:53".parse().unwrap(),
                state: ServerState::Authoritative { serial, nameservers },
                probed: Probed { ns_ttl: Some(600), ..Probed::default() },
                hosts: vec![],
            }],
        }
    }

    #[test]
    fn differences_are_told_in_words() {
        let in_zone = ["ns1.saltmarsh.example", "ns3.saltmarsh.example"];
        let picture = Picture {
            registered: Registered::Yes,
            parent: vec![ParentAnswer {
                server: "192.0.2.2:53".parse().unwrap(),
                nameservers: vec![name("ns1.saltmarsh.example"), name("ns2.saltmarsh.example")],
                ttl: 3600,
                glue: vec![],
                stray: vec![],
                tcp: Reached::Unasked,
                serial: None,
                problem: None,
                denies: false,
            }],
            nameservers: vec![
                seen("ns1.saltmarsh.example", &["192.0.2.1"], &["192.0.2.9"], 7, &in_zone),
                seen("ns2.saltmarsh.example", &[], &[], 5, &in_zone),
            ],
            ..Picture::unasked(name("gullrock.example"))
        };
        let expected = [name("ns1.saltmarsh.example"), name("ns4.saltmarsh.example")];
        let lines: Vec<(String, String, String, Vec<String>)> = compare(&picture, &expected)
            .into_iter()
            .map(|line| (line.what, line.parent, line.zone, line.servers))
            .collect();
        let line = |what: &str, parent: &str, zone: &str, servers: &[&str]| {
            let servers = servers.iter().map(ToString::to_string).collect();
            (what.to_string(), parent.to_string(), zone.to_string(), servers)
        };
        let unasked = ["not asked: the parent does not name it"];
        assert_eq!(
            lines,
            [
                line(
                    "ns1.saltmarsh.example",
                    "named, 192.0.2.1",
                    "named, differs: 192.0.2.9",
                    &["192.0.2.53:53: authority, serial 7"]
                ),
                line(
                    "ns2.saltmarsh.example",
                    "named, not expected",
                    "not named",
                    &["192.0.2.53:53: authority, serial 5, 2 behind"]
                ),
                line("ns3.saltmarsh.example", "not named", "named", &unasked),
                line("ns4.saltmarsh.example", "missing", "not named", &unasked),
                line("time to live", "1 h", "differs: 10 min", &[]),
            ]
        );
    }
}
