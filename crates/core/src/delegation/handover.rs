//! What whoever holds the login at the registrar has to do, and in which order: pure values, worded elsewhere.
//!
//! A signed domain goes dark if its nameservers change while the parent still wants a key that the new ones lack: so the
//! DS record goes first, and its time to live is waited for.

use std::net::IpAddr;

use serde::Serialize;

use super::rules::Expected;
use super::{Ds, Picture, Registered, ServerState};
use crate::name::DnsName;

/// The parts of a handover; an empty part is left out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Handover {
    pub domain: String,
    /// The zone above, where no registry has it: a reverse zone, or one below somebody's domain. Whoever keeps it enters
    /// records.
    pub keeper: Option<String>,
    /// What it stands for, where it is a reverse zone of part of a network.
    pub part: Option<Part>,
    /// What the parent has now.
    pub present: Vec<String>,
    pub registered: bool,
    /// DS records to be removed before anything else: the new nameservers do not have their keys.
    pub remove_ds: Vec<String>,
    /// For how many seconds resolvers may remember them.
    pub wait_seconds: Option<u32>,
    /// Nameservers with names inside the domain: to be registered with their addresses first.
    pub hosts: Vec<Host>,
    /// The whole new set.
    pub nameservers: Vec<String>,
    /// DS records to be entered at the end.
    pub add_ds: Vec<String>,
    /// Nothing is left to do.
    pub done: bool,
}

/// The addresses of a reverse zone of part of a network. The name of each needs an alias (RFC 2317 section 4).
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Part {
    /// The reverse name of the network.
    pub network: String,
    /// The last numbers of the first and the last address.
    pub first: u8,
    pub last: u8,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Host {
    pub name: String,
    pub addresses: Vec<IpAddr>,
    /// What the parent gives now, where that differs.
    pub present: Vec<IpAddr>,
}

/// Works out the handover. `ours` are the DS records of the zone as the new nameservers will serve it.
pub fn handover(picture: &Picture, expected: &Expected, ours: &[Ds]) -> Handover {
    let names = |names: &[DnsName]| names.iter().map(DnsName::bare).collect::<Vec<_>>();
    let mut wanted = expected.nameservers.clone();
    wanted.sort();
    let present = picture.delegated_names();
    let set_differs = present != wanted;
    let stays = |ds: &&Ds| ours.contains(ds);
    let stale: Vec<&Ds> = picture.ds.iter().filter(|ds| !stays(ds)).collect();
    let missing: Vec<&Ds> = ours.iter().filter(|ds| !picture.ds.contains(ds)).collect();
    let inside = expected.nameservers.iter().filter(|name| name.is_within(&picture.domain));
    let hosts: Vec<Host> = inside
        .filter_map(|name| {
            let mut addresses = expected.addresses.get(name).cloned().unwrap_or_default();
            addresses.sort();
            let seen = picture.nameservers.iter().find(|seen| seen.name == *name);
            let present = seen.map(|seen| seen.glue.clone()).unwrap_or_default();
            // One whose addresses nobody knows has to be asked about: without glue it would lead nowhere.
            (present != addresses || addresses.is_empty()).then(|| Host { name: name.bare(), addresses, present })
        })
        .collect();
    let texts = |records: Vec<&Ds>| records.into_iter().map(Ds::text).collect::<Vec<_>>();
    Handover {
        domain: picture.domain.bare(),
        keeper: (!picture.is_in_registry()).then(|| picture.parent_zone.bare()),
        part: part_of(&picture.domain),
        registered: picture.registered == Registered::Yes,
        done: !set_differs && stale.is_empty() && missing.is_empty() && hosts.is_empty() && !wanted.is_empty(),
        wait_seconds: (!stale.is_empty()).then(|| picture.delegation().map_or(86_400, |answer| answer.ttl)),
        present: names(&present),
        remove_ds: texts(stale),
        hosts,
        nameservers: if set_differs { names(&wanted) } else { vec![] },
        add_ds: texts(missing),
    }
}

/// What `0/25.2.0.192.in-addr.arpa` stands for.
fn part_of(domain: &DnsName) -> Option<Part> {
    let bare = domain.bare();
    let (range, network) = bare.split_once('.')?;
    let (first, length) = range.split_once('/')?;
    let first = first.parse::<u8>().ok()?;
    let length = length.parse::<u32>().ok().filter(|length| (24..=32).contains(length))?;
    let last = u8::try_from(u32::from(first) + (1 << (32 - length)) - 1).ok()?;
    Some(Part { network: network.to_string(), first, last })
}

/// Which of the nameservers that a domain is to move to do not have its zone, in words: it would fail for whoever asks
/// these. What this host has no way to ask says nothing.
pub fn unready(asked: &[(DnsName, IpAddr, ServerState)]) -> Vec<String> {
    let lacks =
        |(_, _, state): &&(DnsName, IpAddr, ServerState)| !state.has_authority() && *state != ServerState::NoRoute;
    asked.iter().filter(lacks).map(|(name, at, state)| format!("{} ({at}) {}", name.bare(), state.words())).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::delegation::ParentAnswer;
    use crate::delegation::Reached;

    fn name(text: &str) -> DnsName {
        DnsName::absolute(text).unwrap()
    }

    fn ds(key_tag: u16) -> Ds {
        Ds { key_tag, algorithm: 13, digest_type: 2, digest: vec![0xab; 2] }
    }

    fn picture(nameservers: &[&str]) -> Picture {
        let parent = ParentAnswer {
            server: "192.0.2.2:53".parse().unwrap(),
            nameservers: nameservers.iter().map(|text| name(text)).collect(),
            ttl: 3600,
            glue: vec![],
            stray: vec![],
            tcp: Reached::Unasked,
            serial: None,
            problem: None,
            denies: false,
        };
        Picture { registered: Registered::Yes, parent: vec![parent], ..Picture::unasked(name("gullrock.example")) }
    }

    #[test]
    fn a_nameserver_inside_the_domain_is_named_even_if_nobody_knows_its_addresses() {
        let expected = Expected { nameservers: vec![name("ns1.gullrock.example")], ..Expected::default() };
        let made = handover(&picture(&["ns1.gullrock.example"]), &expected, &[]);
        assert_eq!((made.hosts.len(), made.done), (1, false));
        assert_eq!((made.hosts[0].name.as_str(), made.hosts[0].addresses.len()), ("ns1.gullrock.example", 0));
    }

    #[test]
    fn what_no_registry_has_is_for_whoever_keeps_the_zone_above() {
        let expected = Expected { nameservers: vec![name("ns1.saltmarsh.example")], ..Expected::default() };
        let made = |domain: &str, above: &str| {
            let looked = Picture { parent_zone: name(above), ..Picture::unasked(name(domain)) };
            let made = handover(&looked, &expected, &[]);
            (made.keeper, made.part.map(|part| (part.first, part.last)))
        };
        assert_eq!(made("gullrock.example", "example"), (None, None));
        assert_eq!(made("yard.gullrock.example", "gullrock.example"), (Some("gullrock.example".into()), None));
        let above = Some("2.0.192.in-addr.arpa".to_string());
        assert_eq!(made("0/25.2.0.192.in-addr.arpa", "2.0.192.in-addr.arpa"), (above.clone(), Some((0, 127))));
        assert_eq!(made("64/26.2.0.192.in-addr.arpa", "2.0.192.in-addr.arpa"), (above.clone(), Some((64, 127))));
        assert_eq!(made("255/32.2.0.192.in-addr.arpa", "2.0.192.in-addr.arpa"), (above.clone(), Some((255, 255))));
        for odd in ["200/25", "0/8", "0/33", "x/25"] {
            let odd = format!("{odd}.2.0.192.in-addr.arpa");
            assert_eq!(made(&odd, "2.0.192.in-addr.arpa"), (above.clone(), None), "{odd}");
        }
    }

    #[test]
    fn hosts_first_then_the_set_then_the_key() {
        let mut expected = Expected { nameservers: vec![name("ns1.gullrock.example")], ..Expected::default() };
        expected.addresses.insert(name("ns1.gullrock.example"), vec!["192.0.2.53".parse().unwrap()]);
        let made = handover(&picture(&["ns.oldquay.example"]), &expected, &[ds(7)]);
        assert_eq!(
            (made.hosts[0].name.as_str(), &made.nameservers),
            ("ns1.gullrock.example", &vec!["ns1.gullrock.example".to_string()])
        );
        assert_eq!((made.add_ds, made.remove_ds, made.done), (vec!["7 13 2 ABAB".to_string()], vec![], false));
    }

    #[test]
    fn a_key_that_the_new_servers_lack_leaves_the_parent_first() {
        let expected = Expected { nameservers: vec![name("ns1.saltmarsh.example")], ..Expected::default() };
        let mut old = picture(&["ns.oldquay.example"]);
        old.ds = vec![ds(9)];
        let made = handover(&old, &expected, &[]);
        assert_eq!((made.remove_ds, made.wait_seconds), (vec!["9 13 2 ABAB".to_string()], Some(3600)));
        assert!(handover(&picture(&["ns1.saltmarsh.example"]), &expected, &[]).done);
    }

    #[test]
    fn a_nameserver_without_the_zone_is_not_ready_and_one_out_of_reach_says_nothing() {
        let name = |text: &str| DnsName::absolute(text).unwrap();
        let at = |state| (name("ns1.saltmarsh.example"), "192.0.2.53".parse().unwrap(), state);
        let all = [
            at(ServerState::Authoritative { serial: 7, nameservers: vec![] }),
            at(ServerState::NoRoute),
            at(ServerState::NotAuthoritative),
            at(ServerState::Silent),
        ];
        let words =
            ["ns1.saltmarsh.example (192.0.2.53) without authority", "ns1.saltmarsh.example (192.0.2.53) silent"];
        assert_eq!(unready(&all), words);
    }
}
