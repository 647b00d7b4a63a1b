//! The exact values that somebody else has to enter: at the registrar, or where the zone is kept.

use std::net::IpAddr;

use crate::delegation::rules::Expected;
use crate::name::{DnsName, Host};

/// What to set at the registrar: the nameservers, and their addresses where they lie inside the domain.
pub(super) fn at_registrar(zone: &DnsName, expected: &Expected) -> Vec<String> {
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

/// The records to enter where the zone is kept, one a line, with full owner names.
pub(super) fn address_records(hostname: &Host, addresses: &[IpAddr]) -> Vec<String> {
    addresses
        .iter()
        .map(|address| {
            let record_type = if address.is_ipv4() { "A" } else { "AAAA" };
            format!("{hostname}. 3600 IN {record_type} {address}")
        })
        .collect()
}
