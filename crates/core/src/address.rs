//! What an address is for: the IANA registries of special-purpose IPv4 and IPv6 addresses (RFC 6890), in one place. Which
//! kinds are in place somewhere is for those who ask: `delegation::reach`, `zone::rules::private_address`.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AddressKind {
    Public,
    Loopback,
    /// Of an inner network, or of a provider's (RFC 1918, 4193, 6598).
    Private,
    LinkLocal,
    Documentation,
    /// Unspecified, multicast, for benchmarks, for protocols, or kept for later.
    Reserved,
}

/// A prefix of the registry, with what it is for. The longest one that matches counts.
type Entry<A> = (A, u32, AddressKind);

const fn v4(a: u8, b: u8, c: u8, d: u8, length: u32, kind: AddressKind) -> Entry<Ipv4Addr> {
    (Ipv4Addr::new(a, b, c, d), length, kind)
}

/// <https://www.iana.org/assignments/iana-ipv4-special-registry>, and multicast (RFC 5771).
const V4: &[Entry<Ipv4Addr>] = &[
    v4(0, 0, 0, 0, 8, AddressKind::Reserved),
    v4(10, 0, 0, 0, 8, AddressKind::Private),
    v4(100, 64, 0, 0, 10, AddressKind::Private),
    v4(127, 0, 0, 0, 8, AddressKind::Loopback),
    v4(169, 254, 0, 0, 16, AddressKind::LinkLocal),
    v4(172, 16, 0, 0, 12, AddressKind::Private),
    v4(192, 0, 0, 0, 24, AddressKind::Reserved),
    // Anycast for port control and TURN: reached from everywhere.
    v4(192, 0, 0, 9, 32, AddressKind::Public),
    v4(192, 0, 0, 10, 32, AddressKind::Public),
    v4(192, 0, 2, 0, 24, AddressKind::Documentation),
    v4(192, 88, 99, 0, 24, AddressKind::Reserved),
    v4(192, 168, 0, 0, 16, AddressKind::Private),
    v4(198, 18, 0, 0, 15, AddressKind::Reserved),
    v4(198, 51, 100, 0, 24, AddressKind::Documentation),
    v4(203, 0, 113, 0, 24, AddressKind::Documentation),
    v4(224, 0, 0, 0, 4, AddressKind::Reserved),
    v4(240, 0, 0, 0, 4, AddressKind::Reserved),
];

const fn v6(first: [u16; 4], length: u32, kind: AddressKind) -> Entry<Ipv6Addr> {
    let [a, b, c, d] = first;
    (Ipv6Addr::new(a, b, c, d, 0, 0, 0, 0), length, kind)
}

/// <https://www.iana.org/assignments/iana-ipv6-special-registry>; and what is global unicast at all (RFC 4291).
const V6: &[Entry<Ipv6Addr>] = &[
    v6([0, 0, 0, 0], 0, AddressKind::Reserved),
    v6([0x64, 0xff9b, 0, 0], 96, AddressKind::Public),
    v6([0x2000, 0, 0, 0], 3, AddressKind::Public),
    v6([0x2001, 0, 0, 0], 23, AddressKind::Reserved),
    v6([0x2001, 1, 0, 0], 32, AddressKind::Public),
    v6([0x2001, 3, 0, 0], 32, AddressKind::Public),
    v6([0x2001, 4, 0x112, 0], 48, AddressKind::Public),
    v6([0x2001, 0x20, 0, 0], 28, AddressKind::Public),
    v6([0x2001, 0x30, 0, 0], 28, AddressKind::Public),
    v6([0x2001, 0xdb8, 0, 0], 32, AddressKind::Documentation),
    v6([0x2002, 0, 0, 0], 16, AddressKind::Reserved),
    v6([0x3fff, 0, 0, 0], 20, AddressKind::Documentation),
    v6([0xfc00, 0, 0, 0], 7, AddressKind::Private),
    v6([0xfe80, 0, 0, 0], 10, AddressKind::LinkLocal),
];

impl AddressKind {
    /// What the registries say of an address.
    ///
    /// ```
    /// use brightharbor_core::address::AddressKind;
    /// assert_eq!(AddressKind::of("100.64.0.1".parse().unwrap()), AddressKind::Private);
    /// assert_eq!(AddressKind::of("2620:fe::fe".parse().unwrap()), AddressKind::Public);
    /// ```
    pub fn of(address: IpAddr) -> Self {
        match address {
            IpAddr::V6(Ipv6Addr::LOCALHOST) => Self::Loopback,
            IpAddr::V4(v4) => {
                let of = |(prefix, length, _): &&Entry<Ipv4Addr>| {
                    (v4.to_bits() ^ prefix.to_bits()).leading_zeros() >= *length
                };
                longest(V4.iter().filter(of)).unwrap_or(Self::Public)
            }
            IpAddr::V6(v6) => {
                let of = |(prefix, length, _): &&Entry<Ipv6Addr>| {
                    (v6.to_bits() ^ prefix.to_bits()).leading_zeros() >= *length
                };
                longest(V6.iter().filter(of)).unwrap_or(Self::Reserved)
            }
        }
    }

    pub fn words(self) -> &'static str {
        match self {
            Self::Public => "a public address",
            Self::Loopback => "a loopback address",
            Self::Private => "a private address",
            Self::LinkLocal => "a link-local address",
            Self::Documentation => "an address for documentation",
            Self::Reserved => "a reserved address",
        }
    }
}

fn longest<'a, A: 'a>(entries: impl Iterator<Item = &'a Entry<A>>) -> Option<AddressKind> {
    entries.max_by_key(|(_, length, _)| *length).map(|(_, _, kind)| *kind)
}

#[cfg(test)]
mod tests {
    use super::AddressKind::*;
    use super::*;

    #[test]
    fn each_prefix_of_the_registries_at_its_edges() {
        for (text, kind) in [
            ("0.0.0.0", Reserved),
            ("0.255.255.255", Reserved),
            ("1.0.0.0", Public),
            ("9.255.255.255", Public),
            ("10.0.0.0", Private),
            ("11.0.0.0", Public),
            ("100.63.255.255", Public),
            ("100.64.0.0", Private),
            ("100.127.255.255", Private),
            ("100.128.0.0", Public),
            ("127.255.0.1", Loopback),
            ("169.254.9.9", LinkLocal),
            ("172.15.255.255", Public),
            ("172.31.255.255", Private),
            ("172.32.0.0", Public),
            ("192.0.0.8", Reserved),
            ("192.0.0.9", Public),
            ("192.0.0.11", Reserved),
            ("192.0.1.1", Public),
            ("192.0.2.255", Documentation),
            ("192.88.99.1", Reserved),
            ("192.168.0.1", Private),
            ("198.19.255.255", Reserved),
            ("198.20.0.0", Public),
            ("198.51.100.7", Documentation),
            ("203.0.113.7", Documentation),
            ("223.255.255.255", Public),
            ("224.0.0.1", Reserved),
            ("255.255.255.255", Reserved),
            ("::", Reserved),
            ("::1", Loopback),
            ("::2", Reserved),
            ("::ffff:9.9.9.9", Reserved),
            ("64:ff9b::1.1.1.1", Public),
            ("64:ff9b:1::1", Reserved),
            ("100::1", Reserved),
            ("2001::1", Reserved),
            ("2001:1::1", Public),
            ("2001:2::1", Reserved),
            ("2001:4:112::1", Public),
            ("2001:200::1", Public),
            ("2001:db8:ffff::", Documentation),
            ("2001:db9::", Public),
            ("2002:909:909::1", Reserved),
            ("2620:fe::fe", Public),
            ("3fff:fff::1", Documentation),
            ("3fff:1000::1", Public),
            ("4000::1", Reserved),
            ("5f00::1", Reserved),
            ("fd00::1", Private),
            ("fe80::1", LinkLocal),
            ("febf::1", LinkLocal),
            ("fec0::1", Reserved),
            ("ff02::1", Reserved),
        ] {
            assert_eq!(AddressKind::of(text.parse().unwrap()), kind, "{text}");
        }
    }
}
