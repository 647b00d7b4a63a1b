//! Nameserver sets: what can be typed for one, and the address records that its names need in zones of the harbor.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::str::FromStr;

use jiff::civil::Date;

use super::Weakness;
use crate::change::Change;
use crate::delegation::{ONE_NETWORK, network};
use crate::harbor::NameserverSet;
use crate::name::{DnsName, Hostname};
use crate::zone::{EditError, KeptZone, Record, RecordData};

/// A member as typed: `NAME`, or `NAME=ADDRESS,ADDRESS`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    pub name: DnsName,
    pub addresses: Vec<IpAddr>,
}

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MemberError {
    #[error("`{0}` is not a nameserver name")]
    Name(String),
    #[error("`{0}` is not an address")]
    Address(String),
}

impl FromStr for Member {
    type Err = MemberError;

    fn from_str(text: &str) -> Result<Self, MemberError> {
        let shown = |text: &str| text.chars().take(60).flat_map(char::escape_default).collect::<String>();
        let (name, addresses) = text.split_once('=').unwrap_or((text, ""));
        let name = Hostname::parse(name).map_err(|_| MemberError::Name(shown(name)))?;
        let addresses = addresses.split(',').map(str::trim).filter(|part| !part.is_empty());
        let addresses = addresses
            .map(|part| part.parse().map_err(|_| MemberError::Address(shown(part))))
            .collect::<Result<_, _>>()?;
        Ok(Self { name: name.dns_name(), addresses })
    }
}

/// Puts members together.
pub fn set_of(members: &[Member]) -> NameserverSet {
    let mut set = NameserverSet::default();
    for member in members {
        if !set.nameservers.contains(&member.name) {
            set.nameservers.push(member.name.clone());
        }
        if !member.addresses.is_empty() {
            set.addresses.entry(member.name.clone()).or_default().extend(&member.addresses);
        }
    }
    for addresses in set.addresses.values_mut() {
        addresses.sort();
        addresses.dedup();
    }
    set
}

/// What is weak about a set.
pub fn weaknesses(set: &NameserverSet) -> Vec<Weakness> {
    let mut found = Vec::new();
    if let [only] = &set.nameservers[..] {
        found.push(Weakness::OnlyOne(only.clone()));
    }
    let mut by_address: BTreeMap<IpAddr, Vec<DnsName>> = BTreeMap::new();
    for (name, addresses) in &set.addresses {
        for address in addresses {
            by_address.entry(*address).or_default().push(name.clone());
        }
    }
    let networks: BTreeSet<IpAddr> = by_address.keys().map(|address| network(*address, ONE_NETWORK)).collect();
    let one_network = by_address.len() > 1 && networks.len() == 1;
    let shared = by_address.into_iter().filter(|(_, names)| names.len() > 1);
    found.extend(shared.map(|(address, nameservers)| Weakness::SameAddress { nameservers, address }));
    found.extend(one_network.then_some(Weakness::OneNetwork));
    let bare = set.nameservers.iter().filter(|name| !set.addresses.contains_key(name));
    found.extend(bare.cloned().map(Weakness::NoAddress));
    found
}

/// What brings addresses into a zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AlignedAddresses {
    pub change: Change,
    pub removed: Vec<Record>,
    pub added: Vec<Record>,
}

/// Brings the addresses of a set's names that lie in this zone into it; `None` if they are there.
pub fn align_addresses(
    kept: &KeptZone,
    set: &NameserverSet,
    today: Date,
) -> Result<Option<AlignedAddresses>, EditError> {
    let apex = kept.zone.name.dns_name();
    let ttl = crate::zone::default_ttl(&kept.document);
    let (mut removed, mut added) = (Vec::new(), Vec::new());
    for (name, addresses) in set.addresses.iter().filter(|(name, _)| name.is_within(&apex)) {
        let present: Vec<&Record> =
            kept.document.records().filter(|record| record.owner == *name && record.data.address().is_some()).collect();
        let ttl = present.first().map_or(ttl, |record| record.ttl);
        removed.extend(
            present.iter().filter(|r| r.data.address().is_some_and(|a| !addresses.contains(&a))).map(|r| (*r).clone()),
        );
        let missing = addresses.iter().filter(|a| !present.iter().any(|record| record.data.address() == Some(**a)));
        added.extend(missing.map(|a| Record { owner: name.clone(), ttl, data: RecordData::of_address(*a) }));
    }
    if removed.is_empty() && added.is_empty() {
        return Ok(None);
    }
    let edited = kept.document.with_replaced(&removed, &added, today)?;
    Ok(Some(AlignedAddresses { change: kept.change(&edited, &removed, &added), removed, added }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::zone::Document;
    use crate::zone::{KeptZone, Zone, ZoneHome, ZonePlace};

    fn member(text: &str) -> Member {
        text.parse().unwrap()
    }

    #[test]
    fn members_are_names_with_addresses() {
        assert_eq!(member("ns1.gullrock.example=192.0.2.53, 2001:db8::53").addresses.len(), 2);
        assert_eq!(member("ns1.saltmarsh.example.").addresses, Vec::<IpAddr>::new());
        assert!("ns1=192.0.2.1".parse::<Member>().is_err() && "ns1.a.example=here".parse::<Member>().is_err());
    }

    #[test]
    fn what_is_weak_is_told() {
        let told = |texts: &[&str]| weaknesses(&set_of(&texts.iter().map(|text| member(text)).collect::<Vec<_>>()));
        let (ns1, ns2) = (member("ns1.gullrock.example").name, member("ns2.gullrock.example").name);
        assert_eq!(told(&["ns1.gullrock.example=192.0.2.53", "ns2.gullrock.example=198.51.100.53"]), []);
        let address = "192.0.2.53".parse().unwrap();
        let same = Weakness::SameAddress { nameservers: vec![ns1.clone(), ns2], address };
        assert_eq!(told(&["ns1.gullrock.example=192.0.2.53", "ns2.gullrock.example=192.0.2.53"]), [same]);
        let near = told(&["ns1.gullrock.example=192.0.2.53", "ns2.gullrock.example=192.0.2.54"]);
        assert_eq!(near, [Weakness::OneNetwork]);
        assert_eq!(told(&["ns1.gullrock.example"]), [Weakness::OnlyOne(ns1.clone()), Weakness::NoAddress(ns1)]);
    }

    #[test]
    fn addresses_in_the_zone_follow_the_set() {
        let text = "$TTL 900\n@ SOA ns1 host 7 4h 30m 4w 5m\n@ NS ns1\nns1 600 A 192.0.2.1\nns1 TXT kept\n";
        let name = Hostname::parse("gullrock.example").unwrap();
        let document = Document::parse(text, &name.dns_name()).unwrap();
        let zone = Zone::new(name, AccountName::parse("boatyard").unwrap(), ZoneHome::Here);
        let kept = KeptZone { zone, document, place: ZonePlace::File { path: "/zone".into() } };
        let set = set_of(&[member("ns1.gullrock.example=192.0.2.53"), member("ns.saltmarsh.example=192.0.2.9")]);
        let today = jiff::civil::date(2026, 11, 23);
        let aligned = align_addresses(&kept, &set, today).unwrap().unwrap();
        let Change::WriteFile(write) = aligned.change else { panic!() };
        let written = String::from_utf8(write.content.to_vec()).unwrap();
        assert!(
            written.contains("ns1 600 A 192.0.2.53") || written.contains("ns1\t600\tIN\tA\t192.0.2.53"),
            "{written}"
        );
        assert!(!written.contains("192.0.2.1\n") && written.contains("kept") && !written.contains("192.0.2.9"));
        assert_eq!((aligned.removed.len(), aligned.added.len()), (1, 1));
    }
}
