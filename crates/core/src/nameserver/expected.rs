//! What a domain's delegation should be, as far as this harbor has a say; the rules of `delegation` compare with it.

use std::net::IpAddr;

use crate::delegation::rules::{Expected, Load};
use crate::harbor::{NameserverSet, Settings};
use crate::name::DnsName;
use crate::zone::{Zone, ZoneHome, own_servers};

/// The nameserver set whose domains have to be counted to say how full it is.
pub fn set_to_count<'a>(zone: Option<&'a Zone>, settings: &Settings) -> Option<&'a str> {
    let name = with_a_say(zone)?.nameserver_set.as_deref()?;
    settings.nameserver_set(Some(name))?.capacity.map(|_| name)
}

/// The nameservers that a domain should be delegated to: those of the harbor, if it keeps the `zone`; and what else the
/// rules may know. `domains`: how many the set of [`set_to_count`] has.
pub fn expected(zone: Option<&Zone>, domains: Option<u32>, settings: &Settings) -> Expected {
    let ours = with_a_say(zone);
    let set_name = ours.and_then(|zone| zone.nameserver_set.clone());
    let set = match ours {
        Some(_) => settings.nameserver_set(set_name.as_deref()).unwrap_or_default(),
        None => NameserverSet::default(),
    };
    let provider = settings.provider_nameservers();
    let mut own_nameservers = provider.clone();
    own_nameservers.extend(settings.nameserver_sets.values().flat_map(|set| set.nameservers.clone()));
    let load = match (set_name, set.capacity, domains) {
        (Some(set), Some(capacity), Some(domains)) => Some(Load { set, domains, capacity }),
        _ => None,
    };
    let hidden = provider.into_iter().filter(|name| set.account.is_some() && !set.nameservers.contains(name));
    Expected {
        hidden_names: hidden.collect(),
        addresses: match set.addresses.is_empty() {
            true => settings.host.nameserver_addresses.clone(),
            false => set.addresses,
        },
        nameservers: set.nameservers,
        zone_here: Some(zone.is_some_and(|zone| zone.home != ZoneHome::Elsewhere)),
        own_nameservers,
        own_addresses: own_addresses(settings),
        secondaries: settings.secondaries.iter().map(|secondary| secondary.name.clone()).collect(),
        load,
        changed_at: None,
        asked_at: None,
    }
}

/// Where servers of this harbor are asked: its DNS server, its secondaries, and what the settings say of nameservers.
fn own_addresses(settings: &Settings) -> Vec<IpAddr> {
    let servers = own_servers(settings).into_iter().map(|server| server.address.ip());
    let of_sets = settings.nameserver_sets.values().flat_map(|set| set.addresses.values());
    let named = settings.host.nameserver_addresses.values().chain(of_sets).flatten().copied();
    let mut all: Vec<IpAddr> = servers.chain(named).collect();
    all.sort();
    all.dedup();
    all
}

/// What to set at the registrar: the nameservers, and their addresses where they lie inside the domain.
pub fn at_registrar(zone: &DnsName, expected: &Expected) -> Vec<String> {
    let line = |name: &DnsName| {
        let addresses = expected.addresses.get(name).filter(|_| name.is_within(zone));
        match addresses {
            Some(addresses) => {
                let listed = addresses.iter().map(IpAddr::to_string).collect::<Vec<_>>().join(", ");
                format!("nameserver {} with the addresses {listed}", name.bare())
            }
            None => format!("nameserver {}", name.bare()),
        }
    };
    expected.nameservers.iter().map(line).collect()
}

/// The zone, if this harbor says where it is delegated to: what a primary elsewhere is delegated to is its own affair,
/// unless a set was named.
fn with_a_say(zone: Option<&Zone>) -> Option<&Zone> {
    zone.filter(|zone| zone.home == ZoneHome::Here || zone.nameserver_set.is_some())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::account::AccountName;
    use crate::name::Hostname;

    fn name(text: &str) -> DnsName {
        DnsName::absolute(text).unwrap()
    }

    fn settings() -> Settings {
        let mut settings = Settings::default();
        settings.host.nameservers = vec![name("ns1.saltmarsh.example"), name("ns2.saltmarsh.example")];
        let own = NameserverSet {
            nameservers: vec![name("ns1.gullrock.example")],
            account: AccountName::parse("boatyard").ok(),
            capacity: Some(40),
            ..NameserverSet::default()
        };
        settings.nameserver_sets.insert("yard".into(), own);
        settings
    }

    fn zone(home: ZoneHome, set: Option<&str>) -> Zone {
        let domain = Hostname::parse("gullrock.example").unwrap();
        let zone = Zone::new(domain, AccountName::parse("boatyard").unwrap(), home);
        Zone { nameserver_set: set.map(String::from), ..zone }
    }

    #[test]
    fn the_harbor_has_a_say_where_it_keeps_the_zone_or_a_set_was_named() {
        let seen = |zone: Option<&Zone>| {
            let expected = expected(zone, None, &settings());
            (expected.nameservers.len(), expected.zone_here)
        };
        assert_eq!(seen(None), (0, Some(false)));
        assert_eq!(seen(Some(&zone(ZoneHome::Here, None))), (2, Some(true)));
        assert_eq!(seen(Some(&zone(ZoneHome::Elsewhere, None))), (0, Some(false)));
        assert_eq!(seen(Some(&zone(ZoneHome::Remote, None))), (0, Some(true)));
        assert_eq!(seen(Some(&zone(ZoneHome::Remote, Some("yard")))), (1, Some(true)));
    }

    #[test]
    fn a_set_of_the_customers_own_hides_the_providers_names_and_is_counted() {
        let zone = zone(ZoneHome::Here, Some("yard"));
        assert_eq!(set_to_count(Some(&zone), &settings()), Some("yard"));
        assert_eq!(set_to_count(None, &settings()), None);
        let expected = expected(Some(&zone), Some(39), &settings());
        assert_eq!(expected.hidden_names.len(), 2);
        assert_eq!(expected.load, Some(Load { set: "yard".into(), domains: 39, capacity: 40 }));
        assert_eq!(expected.own_nameservers.len(), 3);
        assert_eq!(expected.own_addresses, [] as [IpAddr; 0]);
    }

    #[test]
    fn servers_of_the_harbor_are_known_by_address_too() {
        let mut settings = settings();
        settings.dns.server = crate::harbor::DnsServer::Bind;
        settings.dns.address = "192.0.2.53:53".parse().ok();
        let named = ["192.0.2.53", "198.51.100.53"].map(|text| text.parse().unwrap()).to_vec();
        settings.host.nameserver_addresses.insert(name("ns1.saltmarsh.example"), named.clone());
        assert_eq!(expected(None, None, &settings).own_addresses, named);
    }
}
