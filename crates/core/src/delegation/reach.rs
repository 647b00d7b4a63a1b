//! Which addresses make sense to ask: a nameserver with a private address is nobody's nameserver, and asking it would
//! only touch machines of the inner network.

use std::net::{IpAddr, SocketAddr};

/// What an address is for (RFC 6890 and its registry).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddressKind {
    Public,
    Loopback,
    Private,
    LinkLocal,
    Documentation,
    /// Unspecified, multicast, or reserved.
    Reserved,
}

impl AddressKind {
    pub fn of(address: IpAddr) -> Self {
        match address {
            IpAddr::V4(v4) => {
                let [a, b, ..] = v4.octets();
                match () {
                    () if v4.is_loopback() => Self::Loopback,
                    // With the shared space of RFC 6598.
                    () if v4.is_private() || (a == 100 && b & 0xc0 == 64) => Self::Private,
                    () if v4.is_link_local() => Self::LinkLocal,
                    () if v4.is_documentation() => Self::Documentation,
                    () if a == 0 || a >= 224 || (a == 198 && b & 0xfe == 18) => Self::Reserved,
                    () => Self::Public,
                }
            }
            IpAddr::V6(v6) => {
                let [a, b, ..] = v6.segments();
                match () {
                    () if v6.to_ipv4_mapped().is_some() || v6.is_unspecified() || v6.is_multicast() => Self::Reserved,
                    () if v6.is_loopback() => Self::Loopback,
                    () if v6.is_unique_local() => Self::Private,
                    () if v6.is_unicast_link_local() => Self::LinkLocal,
                    () if (a == 0x2001 && b == 0xdb8) || (a == 0x3fff && b < 0x1000) => Self::Documentation,
                    () if a & 0xe000 != 0x2000 => Self::Reserved,
                    () => Self::Public,
                }
            }
        }
    }

    pub fn words(self) -> &'static str {
        match self {
            Self::Public => "public",
            Self::Loopback => "a loopback address",
            Self::Private => "a private address",
            Self::LinkLocal => "a link-local address",
            Self::Documentation => "an address for documentation",
            Self::Reserved => "a reserved address",
        }
    }
}

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
    fn kinds() {
        let of = |text: &str| AddressKind::of(text.parse().unwrap());
        assert_eq!((of("9.9.9.9"), of("2620:fe::fe")), (AddressKind::Public, AddressKind::Public));
        assert_eq!((of("10.1.2.3"), of("100.64.0.1"), of("fd00::1")), ([AddressKind::Private; 3]).into());
        assert_eq!((of("192.0.2.1"), of("2001:db8::1")), ([AddressKind::Documentation; 2]).into());
        assert_eq!((of("0.0.0.0"), of("255.255.255.255"), of("::ffff:9.9.9.9")), ([AddressKind::Reserved; 3]).into());
    }

    #[test]
    fn a_closed_network_may_use_the_kind_of_its_roots() {
        let roots = ["127.0.0.1:53".parse().unwrap()];
        let fits = |text: &str| is_in_place(text.parse().unwrap(), &roots);
        assert!(fits("127.3.2.1") && fits("9.9.9.9") && !fits("10.0.0.1") && !fits("192.0.2.1"));
    }
}
