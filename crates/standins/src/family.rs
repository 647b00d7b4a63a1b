//! The family of addresses that worlds live in: loopback of IPv4, or, where the environment says `BRIGHTHARBOR_WORLD=ipv6`,
//! unique local addresses of IPv6 (RFC 4193), which are there only in a network namespace with a local route for them.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Family {
    V4,
    V6,
}

/// The route that makes all addresses of these worlds local, as `ip -6 route add` takes it.
pub const V6_ROUTE: [&str; 4] = ["local", "fd5a::/16", "dev", "lo"];
/// One that an interface has to have: BIND listens nowhere else.
pub const V6_OF_INTERFACE: Ipv6Addr = Ipv6Addr::new(0xfd5a, 0, 0, 0, 0, 0, 0, 0x53);

impl Family {
    pub fn of_this_process() -> Self {
        match std::env::var_os("BRIGHTHARBOR_WORLD") {
            Some(word) if word == "ipv6" => Family::V6,
            _ => Family::V4,
        }
    }

    /// An address of a network that begins with these bytes: the first is that of loopback, and means nothing in IPv6.
    pub fn address(self, [a, b, c]: [u8; 3], last: u8) -> IpAddr {
        match self {
            Family::V4 => Ipv4Addr::new(a, b, c, last).into(),
            Family::V6 => {
                // Other second or third bytes are another /48.
                Ipv6Addr::new(0xfd5a, b.into(), c.into(), 1, 0, 0, 0, last.into()).into()
            }
        }
    }

    /// An address that an interface has.
    pub fn of_interface(self) -> IpAddr {
        match self {
            Family::V4 => Ipv4Addr::LOCALHOST.into(),
            Family::V6 => V6_OF_INTERFACE.into(),
        }
    }

    /// Whatever address and port a client has.
    pub(crate) fn any(self) -> SocketAddr {
        match self {
            Family::V4 => (Ipv4Addr::UNSPECIFIED, 0).into(),
            Family::V6 => (Ipv6Addr::UNSPECIFIED, 0).into(),
        }
    }

    /// The type of its address records.
    pub fn record_type(self) -> &'static str {
        match self {
            Family::V4 => "A",
            Family::V6 => "AAAA",
        }
    }

    /// Fills an address in at its place; where it is the data of an address record, that becomes one of the family.
    pub fn fill(self, text: &str, place: &str, address: IpAddr) -> String {
        let mut filled = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(at) = rest.find(place) {
            let before = &rest[..at];
            let head = before.trim_end_matches([' ', '\t']);
            let is_data = head.len() < before.len() && (head.ends_with(" A") || head.ends_with("\tA"));
            filled.push_str(head);
            if self == Family::V6 && is_data {
                filled.push_str("AAA");
            }
            filled.push_str(&before[head.len()..]);
            filled.push_str(&address.to_string());
            rest = &rest[at + place.len()..];
        }
        filled + rest
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn records_become_those_of_the_family() {
        let address = Family::V6.address([127, 0x40, 0x12], 4);
        assert_eq!(address.to_string(), "fd5a:40:12:1::4");
        let text = "ns1 IN A   {ns1}\nns2\tA\t{ns1}\nsay TXT {ns1}\nAA {ns1}\n{ns1}";
        let filled = "ns1 IN AAAA   fd5a:40:12:1::4\nns2\tAAAA\tfd5a:40:12:1::4\nsay TXT fd5a:40:12:1::4\nAA fd5a:40:12:1::4\nfd5a:40:12:1::4";
        assert_eq!(Family::V6.fill(text, "{ns1}", address), filled);
        let plain = Family::V4.address([127, 64, 18], 4);
        assert_eq!(Family::V4.fill("ns1 A {ns1}", "{ns1}", plain), "ns1 A 127.64.18.4");
    }
}
