//! The exact records that somebody else has to enter where the zone is kept. What a registrar needs is in `nameserver`.

use std::net::IpAddr;

use crate::name::Host;

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
