//! Which addresses make sense to ask: a nameserver with a private address is nobody's nameserver, and asking it would
//! only touch machines of the inner network.

use std::net::{IpAddr, SocketAddr};

use crate::address::AddressKind;

/// Whether an address belongs to the internet that these root servers are of: a public one, or, in a closed network,
/// one of the same kind as they are.
pub fn is_in_place(address: IpAddr, roots: &[SocketAddr]) -> bool {
    let kind = AddressKind::of(address);
    kind == AddressKind::Public || roots.iter().any(|root| AddressKind::of(root.ip()) == kind)
}

/// The network that usually shares one fate: the /24 or /48.
pub fn network(address: IpAddr) -> Vec<u8> {
    match address {
        IpAddr::V4(v4) => v4.octets()[..3].to_vec(),
        IpAddr::V6(v6) => v6.octets()[..6].to_vec(),
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
