//! Which addresses make sense to ask: a nameserver with a private address is nobody's nameserver, and asking it would
//! only touch machines of the inner network.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use crate::address::AddressKind;

/// Whether an address belongs to the internet that these root servers are of: a public one, or, in a closed network,
/// one of the same kind as they are.
pub fn is_in_place(address: IpAddr, roots: &[SocketAddr]) -> bool {
    let kind = AddressKind::of(address);
    kind == AddressKind::Public || roots.iter().any(|root| AddressKind::of(root.ip()) == kind)
}

/// The lengths of the prefixes that usually share one fate, of IPv4 and of IPv6.
pub const ONE_NETWORK: (u32, u32) = (24, 48);

/// The network of an address by the length of its prefix, one for IPv4 and one for IPv6.
pub fn network(address: IpAddr, (v4, v6): (u32, u32)) -> IpAddr {
    match address {
        IpAddr::V4(address) => Ipv4Addr::from(u32::from(address) & (u32::MAX << (32 - v4))).into(),
        IpAddr::V6(address) => Ipv6Addr::from(u128::from(address) & (u128::MAX << (128 - v6))).into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_closed_network_may_use_the_kind_of_its_roots() {
        let roots = ["127.0.0.1:53".parse().unwrap()];
        let fits = |text: &str| is_in_place(text.parse().unwrap(), &roots);
        assert!(fits("127.3.2.1") && fits("9.9.9.9") && !fits("10.0.0.1") && !fits("192.0.2.1"));
    }
}
