//! The exact values that somebody else has to enter: at the registrar, or where the zone is kept.

use std::net::IpAddr;

use crate::name::{DnsName, Hostname};

/// What to set at the registrar: the nameservers, and their addresses where they lie inside the domain.
pub(super) fn at_registrar(domain: &Hostname, nameservers: &[DnsName], addresses: &[IpAddr]) -> Vec<String> {
    let zone = domain.dns_name();
    nameservers
        .iter()
        .map(|name| {
            let inside = name.is_within(&zone) && !addresses.is_empty();
            if inside {
                format!("nameserver {} with its addresses", name.bare())
            } else {
                format!("nameserver {}", name.bare())
            }
        })
        .collect()
}

/// The records to enter where the zone is kept, one a line, with full owner names.
pub(super) fn address_records(hostname: &Hostname, addresses: &[IpAddr]) -> Vec<String> {
    addresses
        .iter()
        .map(|address| {
            let record_type = if address.is_ipv4() { "A" } else { "AAAA" };
            format!("{hostname}. 3600 IN {record_type} {address}")
        })
        .collect()
}
